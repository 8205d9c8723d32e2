"""What an exploration creates, and how it is removed again."""

"""What a run created, and how it is removed."""

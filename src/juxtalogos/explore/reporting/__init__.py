"""What an exploration keeps for people."""

"""What the shell offers while a command is typed."""

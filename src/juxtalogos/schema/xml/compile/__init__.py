"""The fast way over sound documents."""

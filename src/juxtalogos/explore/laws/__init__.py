"""What must hold over several exchanges, beyond what a single technique sees."""

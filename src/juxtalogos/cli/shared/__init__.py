"""What several commands share."""

"""XSD documents read into components."""

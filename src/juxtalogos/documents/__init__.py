"""Text documents (JSON, YAML) read into values within bounds, and where a value stands in its text."""

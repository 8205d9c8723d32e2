"""Making values: samples, broken ones, ones at a limit."""

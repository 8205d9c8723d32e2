"""Making elements: samples, broken ones, ones at a limit."""

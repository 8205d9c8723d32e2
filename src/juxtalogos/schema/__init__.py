"""The schema engines: JSON (and CSDL) in `json/`, the pattern engine they share in `patterns/`."""

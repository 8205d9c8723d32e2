"""Written checks: read, run, made of observed answers."""

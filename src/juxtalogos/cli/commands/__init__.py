"""One module a command: it parses its arguments, calls the core and prints."""

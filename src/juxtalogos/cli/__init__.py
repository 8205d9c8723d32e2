"""The command line: the only room that prints, parses arguments or exits."""

"""The command line: parses, calls one action, renders what it gives."""

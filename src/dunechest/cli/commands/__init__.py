"""One module a command: parse, call, show."""

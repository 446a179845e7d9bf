"""The command line: a module a command, which only renders what the core computes."""

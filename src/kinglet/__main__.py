"""`python -m kinglet`."""

from kinglet.cli.main import command_line

command_line()

"""`python -m kinglet`."""

from kinglet.cli.main import main

main()

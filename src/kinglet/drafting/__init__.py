"""A first parser for a log that nobody has a parser for."""

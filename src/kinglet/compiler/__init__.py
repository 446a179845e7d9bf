"""A parser file to a plan."""

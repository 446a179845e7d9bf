"""Fields learned from examples: marks on lines become slots, keys, variants or steps of a parser file."""

"""A look at a log as a whole: what was found of it, and its shapes as a draft would read them."""

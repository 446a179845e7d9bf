"""A first look at a raw log: what a careful engineer would write down, each statement with its evidence."""

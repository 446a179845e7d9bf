"""Marram Ferries: an invented operator between two harbours, its logs, and what happens in them."""

"""Readers of structure: text columns to the keys and values in them."""

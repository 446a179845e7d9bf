"""Bytes to events: the cutting rules, one file each, and the cutter that applies them a buffer at a time."""

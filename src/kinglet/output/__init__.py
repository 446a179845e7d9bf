"""Parsed events to text and files."""

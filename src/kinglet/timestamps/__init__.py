"""Timestamps: their formats, their zones, and the year that the text leaves out."""

"""Readable patterns with typed slots, and the dialect of regular expressions."""

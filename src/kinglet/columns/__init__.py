"""Columns of values: what the column engine lacks, and what every package uses."""

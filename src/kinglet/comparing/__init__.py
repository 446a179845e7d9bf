"""Two versions of parsers over the same logs, batch by batch: what changes, what was named, and what was not."""

"""The dialect of regular expressions, and what can be said of a regex without running it."""

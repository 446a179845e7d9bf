"""The parser file: its keys, its loading with line numbers, its published schema."""

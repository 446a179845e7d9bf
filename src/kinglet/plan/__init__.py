"""What a parser file is compiled to: data only, and the passes that make its readings and its time rules."""

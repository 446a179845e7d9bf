"""What the stage `extract` consists of: regexes over columns, structure, and the choice among many variants."""

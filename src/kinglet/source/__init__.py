"""Raw bytes to events: opening what is given, and cutting it where events begin."""

"""Steps: operations on the fields of events after extraction."""

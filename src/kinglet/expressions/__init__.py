"""SQL expressions over the fields of one event, compiled to column operations that look at one row at a time."""

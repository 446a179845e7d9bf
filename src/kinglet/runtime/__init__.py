"""A parser compiled into a plan, and the plan run over batches of events held as columns."""

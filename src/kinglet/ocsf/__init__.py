"""The common information model (OCSF), and the mapping of events onto it."""

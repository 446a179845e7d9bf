"""The cutting rules: a module a family, each finding where events begin and end in a buffer."""

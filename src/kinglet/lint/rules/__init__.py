"""The rules of lint, a file a family."""

"""What a person needs while writing a parser: previews, diagnoses, cases."""

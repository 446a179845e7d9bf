"""What may be wrong in a parser that loads: rules, each with a code, and what they find."""

"""How much the cases of a parser would notice, whether it reads what it says, and what it costs."""

"""What a notebook shows."""

"""Input fields driven by the quantity table."""

"""What a plan's year means: yearly facts for checks and comparison, and money."""

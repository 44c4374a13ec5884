"""Equipment cards: what a data sheet says, in the program's own words. Every shipped card is invented and generic."""

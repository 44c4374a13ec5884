"""What a page, JSON and a document say alike: plain data and lines of text, made from what the core returned."""

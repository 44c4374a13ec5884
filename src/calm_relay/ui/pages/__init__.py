"""Pages of the window."""

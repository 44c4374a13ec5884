"""Equipment of one's own: efficiencies fitted, cards read, written, found and kept on a shelf between jobs."""

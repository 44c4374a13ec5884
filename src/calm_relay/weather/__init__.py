"""Weather and sun: the only place that imports pvlib."""

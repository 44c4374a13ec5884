"""House load: background profile or metered series, and appliances."""

"""A plan's year: its stages, its flow, phases and legs, the facts, and pictures of it as plain data."""

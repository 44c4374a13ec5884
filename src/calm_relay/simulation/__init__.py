"""Simulation: a plan as arrays, the compiled kernel, the flow table."""

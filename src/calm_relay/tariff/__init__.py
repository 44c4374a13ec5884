"""Prices by clock time and the bill."""

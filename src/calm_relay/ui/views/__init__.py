"""Custom-drawn views."""

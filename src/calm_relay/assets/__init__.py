"""Fonts, demo jobs and other files that ship with the program."""

"""The window: Qt widgets over the core. Nothing here computes."""

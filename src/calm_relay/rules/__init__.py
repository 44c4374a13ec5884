"""Checks: verdicts, the registry, the checks by group, the packs of parameters."""

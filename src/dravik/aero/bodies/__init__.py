"""Finned bodies by components, and their sets of tables."""

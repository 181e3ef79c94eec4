"""Dravik."""

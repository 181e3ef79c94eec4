"""Tests of Dravik."""

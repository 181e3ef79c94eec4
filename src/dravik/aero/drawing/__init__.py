"""Drawings: surfaces, bodies and sections, the panels on them, and what tables are to be built."""

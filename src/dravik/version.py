"""The version, for the package and for what it writes."""

__version__ = "0.2.0"

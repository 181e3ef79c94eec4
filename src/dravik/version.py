"""The version, for the package and for what it writes."""

__version__ = "0.1.0"

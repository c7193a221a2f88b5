"""The version of Zeitbuch."""

__version__ = "0.1.0"

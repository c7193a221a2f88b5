"""Zeitbuch: reads exported AI workflow definitions and says what they do, cost, and what changed in them."""

__version__ = "0.1.0"

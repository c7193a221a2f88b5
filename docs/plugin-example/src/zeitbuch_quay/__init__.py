"""Plug-ins for Zeitbuch: an example."""

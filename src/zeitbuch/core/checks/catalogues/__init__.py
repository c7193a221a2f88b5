"""Catalogues over an estate: one file each, one row in the registry."""

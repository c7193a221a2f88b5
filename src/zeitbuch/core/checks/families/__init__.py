"""Families of checks: one file each, one row a check."""

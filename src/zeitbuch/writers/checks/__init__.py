"""Findings for other programs."""

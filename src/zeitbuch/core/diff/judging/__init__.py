"""Judging of matched flows: one module for what each part of a flow can change in."""

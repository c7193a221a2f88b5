"""Briefs for writing assistants: what they may see of a flow, and what comes back."""

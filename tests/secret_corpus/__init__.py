"""Secrets in context and harmless texts: each in two halves, the second written when the rules stood and measured before any mending."""

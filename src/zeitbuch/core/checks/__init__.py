"""What is odd or dangerous about flows: one file a family of checks, one row a check, and a registry."""

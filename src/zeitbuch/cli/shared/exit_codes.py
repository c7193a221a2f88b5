# The one place that names what a status means.
"""Exit statuses."""

OK, NO, WRONG, STOPPED = 0, 1, 2, 130

"""The book: recorded states of the sources, with the versions of every flow. SQLite by default, PostgreSQL by URL."""

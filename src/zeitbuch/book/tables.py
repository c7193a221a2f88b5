# The tables of a book. Entries are a chain: each holds the hash of the one before, and of all that it recorded.
"""Tables of the book."""

from __future__ import annotations

from sqlalchemy import Column, Float, Integer, LargeBinary, MetaData, String, Table, Text

FORM = "2"
FORMS = ("1", FORM)  # that are read; writing brings a book of an earlier form to this one
metadata = MetaData()

# One row a setting; ``form`` is the form of the tables.
setting = Table(
    "zb_setting", metadata, Column("name", String(40), primary_key=True), Column("value", String(200), nullable=False)
)
# What files hold, once each, by the SHA-256 of the bytes; ``data`` is compressed (zlib, RFC 1950). With a ``base`` it is how the
# lines differ from those of another content.
content = Table(
    "zb_content",
    metadata,
    Column("hash", String(64), primary_key=True),
    Column("size", Integer, nullable=False),
    Column("data", LargeBinary, nullable=False),
    Column("base", String(64), nullable=False, server_default=""),
)
# The chain: snapshots, notes, marks, prunings. ``body`` is JSON with what the entry vouches for.
entry = Table(
    "zb_entry",
    metadata,
    Column("seq", Integer, primary_key=True, autoincrement=False),
    Column("kind", String(20), nullable=False),
    Column("number", Integer, nullable=False),
    Column("at", String(32), nullable=False),
    Column("who", Text, nullable=False),
    Column("note", Text, nullable=False),
    Column("body", Text, nullable=False),
    Column("previous", String(64), nullable=False),
    Column("hash", String(64), nullable=False),
    Column("line", Text, nullable=False, server_default=""),
)
# Versions of flows: one row when a flow came, changed in meaning, or went.
version = Table(
    "zb_version",
    metadata,
    Column("flow", Integer, primary_key=True, autoincrement=False),
    Column("number", Integer, primary_key=True, autoincrement=False),
    Column("snapshot", Integer, nullable=False, index=True),
    Column("id", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("status", String(10), nullable=False),
    Column("fingerprint", String(64), nullable=False),
    Column("file", Text, nullable=False),
    Column("member", Text, nullable=False),
    Column("hash", String(64), nullable=False),
    Column("summary", Text, nullable=False),
    Column("calls", Float),
    Column("run", String(40)),
    Column("month", String(40)),
    Column("currency", Text, nullable=False),
    Column("unpriced", Text, nullable=False),
    Column("line", Text, nullable=False, server_default=""),
    Column("author", Text, nullable=False, server_default=""),
    Column("edited", Text, nullable=False, server_default=""),
)
# What form 2 has and form 1 has not.
ADDED = {content: ("base",), entry: ("line",), version: ("line", "author", "edited")}

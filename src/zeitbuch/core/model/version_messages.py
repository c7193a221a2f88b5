# The rows of the table of messages that are about recorded versions and their comparison.
"""Messages of the book and of mappings."""

from __future__ import annotations

from typing import NamedTuple

from .message_codes import MessageCode


class Message(NamedTuple):
    """One code: what it says, and what to do."""

    code: MessageCode
    about: str
    remedy: str


VERSION_MESSAGES: tuple[Message, ...] = (
    Message("book",
            "The book's database could not be opened, read or written; the message has the database's own words.",
            "See that the file can be written, or that the server runs and the URL is right. A book that is no URL is one SQLite file; PostgreSQL needs `pip "
            "install 'zeitbuch[postgres]'`. Passwords belong into the environment (`PGPASSWORD`) or the password file of PostgreSQL, not into the workspace file."),
    Message("book-archive",
            "A tar file for `history --import` is no exported book, was altered or cut, or the book to fill is not empty.",
            "Export the book again, or name a new book with `--book`. Nothing was taken from the file."),
    Message("book-busy",
            "Another process kept the book locked for two minutes.",
            "Run it again when the other is done. Nothing was recorded."),
    Message("book-damaged",
            "A content that the book names is missing or damaged.",
            "`zeitbuch history --verify` says what is affected. Take the book from a copy, or from an export."),
    Message("book-form",
            "The book was made by a version of Zeitbuch that stores it otherwise.",
            "Use that version, or export the book there and import it here."),
    Message("book-full",
            "There was no room to write the snapshot.",
            "Free space and run it again: the snapshot was not recorded, and everything before is whole."),
    Message("book-moving",
            "A file changed while it was being recorded.",
            "Run it again when nothing writes to the exports."),
    Message("book-none",
            "There is no book at this place, or no snapshot in it yet.",
            "`zeitbuch record` begins one; `--book` or `book = ` in the workspace file name another."),
    Message("book-unknown",
            "The book has no such snapshot or version.",
            "`zeitbuch history` lists the snapshots, `zeitbuch history FLOW` the versions of a flow."),
    Message("book-pruned",
            "The bytes of a snapshot were taken out of the book by `history --prune`. What it said stays in the chain.",
            "Take them from an export of the book that is older than the pruning, or use one of the snapshots that were kept."),
    Message("mapping-idle",
            "An entry of a mapping file fits nothing in the versions compared, or is out of date.",
            "Take it out, correct its name, or renew its date. An entry that is out of date allows nothing."),
    Message("mapping-key",
            "A mapping file has a key that is not known, or a value of the wrong type.",
            "`zeitbuch schema mapping` prints what it may hold."),
    Message("mapping-names",
            "An entry of a mapping names too few names, or one of them twice.",
            "Name what it is called in each line: `names = [\"mail-dev\", \"mail-prod\"]`."),
    Message("mapping-reason",
            "An allowed difference has no reason, or nobody who allowed it.",
            "Write both: who reads the comparison a year later asks for them."),
    Message("mapping-syntax",
            "A mapping file is not TOML.",
            "Mend the file at the line named."),
    Message("mapping-type",
            "An allowed difference names a type of changes that there is not.",
            "Use a type as `diff` shows it before the colon, or a pattern with `*`."),
    Message("mapping-unreadable",
            "A mapping file is missing or cannot be read.",
            "Check path and rights."),
    Message("record-unread",
            "`record --strict` found something that could not be read. Nothing was recorded.",
            "Mend or fetch the files that the other messages name. Without `--strict` they are recorded as they are, and their flows keep their last version."),
    Message("library-missing",
            "Something is asked for that a library does which `pip install zeitbuch` does not bring, so that who does without need not carry it.",
            "Install it with the command that the message gives; `pip install 'zeitbuch[all]'` brings everything."),
    Message("workers",
            "Work cannot be shared out as `--workers` says: the number is none, nothing answers at the address, no worker is there or all were lost, or the workers have "
            "another version of Zeitbuch or other packages that add readers.",
            "Name a number of processes, or start scheduler and workers in environments like the one that asks (docs/scale.md)."),
)  # fmt: skip

# The rows of the table of messages that are about usage logs.
"""Messages of usage logs."""

from __future__ import annotations

from .version_messages import Message

USAGE_MESSAGES: tuple[Message, ...] = (
    Message("usage-column",
            "A usage mapping names a column that the log does not have.",
            "Correct the mapping; where the head is read as one column, set `separator`, where it stands further down, `skip`."),
    Message("usage-empty",
            "A usage log holds no line, or none with a day that is asked for.",
            "Export it again; `zeitbuch usage test` shows what becomes of its lines."),
    Message("usage-engine",
            "A usage mapping names an engine in which the records lie (PostgreSQL, Spark), and it does not answer, or has no such table.",
            "Look at `engine` and `table` in the mapping, whether the server runs, and whether you may read there."),
    Message("usage-form",
            "Nothing says how a usage log is written: its suffix is not known, or the sheet is not in the workbook.",
            "Set `form` or `sheet` in the mapping."),
    Message("usage-key",
            "A usage mapping has a key that is not known, or a value of the wrong type.",
            "`zeitbuch schema usage-mapping` prints what it may hold."),
    Message("usage-line",
            "A line of a usage log has too few or too many columns, or quotes that do not close. It is not counted.",
            "Mend the log or export it again."),
    Message("usage-mapping",
            "A usage mapping says something that cannot be: an unknown column of records, no time, a cost without a currency.",
            "Correct the entry at the line named."),
    Message("usage-none",
            "No usage log is named, and neither the mapping nor the workspace names one.",
            "Name the files, or set `files` in the mapping and `usage` in the workspace."),
    Message("usage-spans",
            "Spans of traces whose tokens others have too, or that leave open how many calls they are.",
            "Nothing, where they are counted once; else look at how the spans are made."),
    Message("usage-syntax",
            "A usage mapping is not TOML.",
            "Mend the file at the line named."),
    Message("usage-unreadable",
            "A usage log or its mapping is missing or cannot be read.",
            "Check path, rights, and how the mapping says that it is written."),
    Message("usage-value",
            "A value of a usage log is not what the mapping says: no clock time, no number, a negative count. Sums leave it out.",
            "Correct `decimal`, `thousands`, `format` or `zone` in the mapping, or the log."),
)  # fmt: skip

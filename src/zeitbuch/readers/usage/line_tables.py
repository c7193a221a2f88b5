# Logs that are no tables (traces, event logs) are written line by line into a file that the engine reads: so they may be larger than memory,
# and a mapping speaks of them as of any table. What is not among the set columns becomes a column of its own, as a text.
"""Tables made of lines."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

_LINES = 20_000  # written at once
_MOST_COLUMNS = 300  # made of names that come with the lines


class LineTable:
    """Takes lines and gives the table. ``columns``: name -> 'text', 'number' or 'moment' (microseconds since 1970, UTC)."""

    def __init__(self, columns: Mapping[str, str]) -> None:
        import pyarrow as pa
        import pyarrow.parquet as pq

        kinds = {"text": pa.string(), "number": pa.float64(), "moment": pa.timestamp("us", tz="UTC")}
        self.columns = dict(columns)
        self.schema = pa.schema(
            [*[(name, kinds[kind]) for name, kind in columns.items()], ("more", pa.map_(pa.string(), pa.string()))]
        )
        self.path = temporary_folder() / "lines.parquet"
        self.writer = pq.ParquetWriter(self.path, self.schema, compression="zstd")
        self.held: list[dict[str, Any]] = []
        self.filled: dict[str, None] = {}
        self.more: dict[str, None] = {}
        self.lines = 0

    def add(self, values: Mapping[str, Any], more: Mapping[str, str]) -> None:
        """One line: values of the set columns, and what else there is."""
        row = {name: value for name, value in values.items() if value is not None}
        self.filled.update(dict.fromkeys(row))
        if len(self.more) < _MOST_COLUMNS:
            self.more.update(dict.fromkeys(more))
        self.held.append({**row, "more": list(more.items())})
        self.lines += 1
        if len(self.held) >= _LINES:
            self._write()

    def _write(self) -> None:
        import pyarrow as pa

        self.writer.write_table(pa.Table.from_pylist(self.held, self.schema))
        self.held = []

    def close(self) -> None:
        """Writes what is left. Nothing can be added afterwards."""
        if self.held:
            self._write()
        self.writer.close()

    def table(self, engine: Any) -> Any:
        """The lines as an expression: set columns that hold something, and one for each other name."""
        self.close()
        lines = engine.read_parquet(str(self.path))
        made = {name: lines[name] for name in self.columns if name in self.filled}
        made |= {name: lines["more"].get(name) for name in sorted(self.more) if name not in self.columns}
        return lines.select(**made)


def temporary_folder() -> Path:
    """A folder that goes when the program ends."""
    folder = tempfile.mkdtemp(prefix="zeitbuch-")
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return Path(folder)

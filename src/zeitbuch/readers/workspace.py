# The workspace file says what a command without SOURCE reads, and which dialects, rates and assumptions apply.
"""The workspace file zeitbuch.toml."""

from __future__ import annotations

import os
import tomllib
from pathlib import Path

import msgspec
from msgspec import Struct

from zeitbuch.core.problems import fail

from .dialect import Dialect, load_dialect

NAME = "zeitbuch.toml"


class Workspace(Struct, frozen=True, forbid_unknown_fields=True):
    """Paths are taken from the folder of the file; ``dialects`` may hold patterns with ``*``."""

    sources: list[str] = []
    dialects: list[str] = []
    rates: str = ""
    assumptions: str = ""
    folder: str = "."

    def path(self, name: str) -> str:
        """A path of the workspace, seen from the current folder."""
        return os.path.normpath(Path(self.folder) / name)


def find(start: str = ".") -> str | None:
    """The nearest workspace file, upwards from a folder."""
    here = Path(start).resolve()
    for folder in (here, *here.parents):
        if (folder / NAME).is_file():
            return os.path.relpath(folder / NAME)
    return None


def load(path: str | None) -> Workspace:
    """The workspace of a file, or an empty one. Raises ZeitbuchError when the file is wrong."""
    if path is None:
        return Workspace()
    try:
        data = tomllib.loads(Path(path).read_text(encoding="utf-8"))
        data["folder"] = str(Path(path).parent)
        return msgspec.convert(data, Workspace)
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise fail(
            "workspace",
            f"{path}: expected a workspace file (TOML), found: {error}",
            "`zeitbuch init` writes a commented one",
        ) from None


def _user_folder() -> Path:
    base = os.environ.get("XDG_CONFIG_HOME")
    return (Path(base) if base else Path.home() / ".config") / "zeitbuch" / "dialects"


def dialects(workspace: Workspace, named: list[str]) -> list[Dialect]:
    """The active dialects: those named, then the workspace's, then the user's. The first of a name wins."""
    paths = list(named)
    for pattern in workspace.dialects:
        if "*" in pattern:
            found = sorted(str(p) for p in Path(workspace.folder).glob(pattern))
            paths += [os.path.normpath(p) for p in found]
        else:
            paths.append(workspace.path(pattern))
    user = _user_folder()
    if user.is_dir():
        paths += sorted(str(p) for p in user.glob("*.toml"))
    active: dict[str, Dialect] = {}
    for path in dict.fromkeys(paths):
        dialect = load_dialect(path)
        active.setdefault(dialect.name, dialect)
    return list(active.values())

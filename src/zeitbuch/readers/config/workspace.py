# The workspace file says what a command without SOURCE reads, and which dialects, rates and assumptions apply.
"""The workspace file zeitbuch.toml."""

from __future__ import annotations

import datetime
import os
from glob import escape as glob_escape
from glob import glob
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct, structs

from zeitbuch.core.checks.records import Limits, Person, Rule
from zeitbuch.core.estimate.budget import Budget, budget_faults
from zeitbuch.core.model.model_map import ModelRule
from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Origin
from zeitbuch.core.report.review_states import ReviewRules
from zeitbuch.readers.dialects.rules import Dialect, load_dialect
from zeitbuch.readers.input.toml_files import TomlKind, load_toml
from zeitbuch.readers.input.toml_lines import line_of
from zeitbuch.readers.secrets.words import SecretWords

NAME = "zeitbuch.toml"
_KIND = TomlKind("a workspace file", "workspace", "workspace-unreadable", "workspace-syntax", "workspace-key")


class Accept(Struct, frozen=True, forbid_unknown_fields=True):
    """A finding that is let be: its code, flow and step (patterns with ``*``), why, by whom, and the first day on which it is no more."""

    code: str
    reason: str
    by: str
    flow: str = "*"
    step: str = "*"
    until: datetime.date | None = None


class Workspace(Struct, frozen=True, forbid_unknown_fields=True):
    """Paths are taken from the folder of the file; ``dialects`` may hold patterns with ``*``;
    ``measured`` is the file of assumptions that `calibrate` wrote; ``month`` (YYYY-MM) is that of monthly figures.
    ``model`` is the model map: which model a step calls when its export does not say; ``budget`` the limits that `estimate`
    holds figures against; ``book`` the place of recorded versions, a file or a URL, ``line`` the line
    of it that is meant where none is named; ``secret_words`` names that are those of secrets,
    or never are; ``accept`` the findings that are let be, ``check_limits`` from where on checks tell, ``rule`` checks of the house; ``person`` the people of the house,
    and ``people`` a CSV file of them; ``review`` the roles that sign; ``notes`` a folder of notes that stand in
    documents; ``usage`` the mappings of usage logs."""

    sources: list[str] = []
    dialects: list[str] = []
    model: list[ModelRule] = []
    rates: str = ""
    assumptions: str = ""
    measured: str = ""
    month: str = ""
    book: str = ""
    line: str = ""
    budget: list[Budget] = []
    secret_words: SecretWords = SecretWords()
    accept: list[Accept] = []
    check_limits: Limits = Limits()
    rule: list[Rule] = []
    person: list[Person] = []
    people: str = ""
    review: ReviewRules = ReviewRules()
    notes: str = ""
    usage: list[str] = []
    folder: str = "."

    def own_files(self) -> list[str]:
        """What decides how sources are read: the workspace file and the dialects it names (patterns as their folders)."""
        named = [NAME, *[name.partition("*")[0].rpartition("/")[0] if "*" in name else name for name in self.dialects]]
        return [self.path_from_here(name) for name in named]

    def path_from_here(self, name: str) -> str:
        """A path of the workspace, seen from the current folder; an address as it is."""
        return name if "://" in name else os.path.normpath(Path(self.folder) / name)


def find_workspace(start: str = ".") -> str | None:
    """The nearest workspace file, upwards from a folder."""
    here = Path(start).resolve()
    for folder in (here, *here.parents):
        if (folder / NAME).is_file():
            return os.path.relpath(folder / NAME)
    return None


def load_workspace(path: str | None) -> Workspace:
    """The workspace of a file, or an empty one. Raises ZeitbuchError when the file is wrong."""
    if path is None:
        return Workspace()
    found, text = load_toml(path, Workspace, _KIND)
    for at, message in budget_faults(found.budget):
        raise fail(
            "budget-limit",
            message,
            "correct it: a limit that is none would never be passed",
            Origin(path, line=line_of(text, at)),
        )
    if found.month:
        from zeitbuch.core.assumptions.volume import (
            parse_month,
        )  # brings clocks and zones, which most commands do without

        try:
            parse_month(found.month)
        except ZeitbuchError as error:
            raise ZeitbuchError(structs.replace(error.problem, origin=Origin(path))) from None
    return structs.replace(found, folder=str(Path(path).parent))


def _user_folder() -> Path:
    base = os.environ.get("XDG_CONFIG_HOME")
    return (Path(base) if base else Path.home() / ".config") / "zeitbuch" / "dialects"


class Listed(NamedTuple):
    """One dialect file that was found. ``place`` says where: option, workspace, user folder, or demo (never active by
    itself)."""

    name: str
    place: str
    active: bool
    title: str
    file: str


def _dialect_candidates(workspace: Workspace, named: list[str]) -> list[tuple[str, str]]:
    """(place, path) of all dialect files, those named first."""
    found = [("option", path) for path in named]
    for pattern in workspace.dialects:
        if "*" in pattern:
            below = sorted(glob(os.path.join(glob_escape(workspace.folder), pattern), recursive=True))  # noqa: PTH118, PTH207
            found += [("workspace", os.path.normpath(part)) for part in below]
        else:
            found.append(("workspace", workspace.path_from_here(pattern)))
    user = _user_folder()
    if user.is_dir():
        found += [("user folder", str(path)) for path in sorted(user.glob("*.toml"))]
    return found


def active_dialects(workspace: Workspace, named: list[str]) -> list[Dialect]:
    """The active dialects: those named, then the workspace's, then the user's. The first of a name wins."""
    active: dict[str, Dialect] = {}
    for path in dict.fromkeys(path for _, path in _dialect_candidates(workspace, named)):
        dialect = load_dialect(path)
        active.setdefault(dialect.name, dialect)
    return list(active.values())


def find_dialect_files(workspace: Workspace, named: list[str]) -> tuple[list[Listed], list[Problem]]:
    """All dialect files with the place they come from, and what is wrong with those that cannot be read."""
    from importlib.resources import as_file, files

    rows: list[Listed] = []
    problems: list[Problem] = []
    seen: set[str] = set()
    paths: set[str] = set()
    with as_file(files("zeitbuch.demo") / "estate" / "dialects") as shipped:
        demo = [("demo", str(path)) for path in sorted(shipped.glob("*.toml"))]
        for place, path in [*_dialect_candidates(workspace, named), *demo]:
            if path in paths:
                continue
            paths.add(path)
            try:
                dialect = load_dialect(path)
            except ZeitbuchError as error:
                problems.append(error.problem)
                continue
            active = place != "demo" and dialect.name not in seen
            if place != "demo":
                seen.add(dialect.name)
            shown = f"(package) {Path(path).name}" if place == "demo" else path
            rows.append(Listed(dialect.name, place, active, dialect.title, shown))
    return rows, problems

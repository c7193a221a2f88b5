# The people of the house: in the workspace itself, or in a CSV file that some other system writes.
"""People of a workspace."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator
from pathlib import Path

from zeitbuch.core.checks.records import Person
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin

from .workspace import Workspace

COLUMNS = ("name", "mail", "team", "left")
_YES = frozenset({"yes", "true", "1", "x", "left"})
_NO = frozenset({"", "no", "false", "0"})


def people_of(workspace: Workspace) -> tuple[list[Person], list[Problem]]:
    """The people of a workspace and of the CSV file that it names (columns name, mail, team, left; the first is needed), and what is
    wrong in that file. Rows with faults are left out, each with a message."""
    if not workspace.people:
        return workspace.person, []
    path = workspace.path_from_here(workspace.people)
    try:
        text = Path(path).read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        words = f"expected a CSV file of people, found none that can be read ({error})"
        return workspace.person, [
            Problem("people-unreadable", "error", words, Origin(path), "correct `people` in the workspace")
        ]
    problems: list[Problem] = []
    read = list(_rows_of(text.splitlines(), path, problems))
    return [*workspace.person, *read], problems


def _rows_of(lines: Iterable[str], path: str, problems: list[Problem]) -> Iterator[Person]:
    reader = csv.DictReader(lines)
    names = [name.strip().casefold() for name in reader.fieldnames or ()]
    if "name" not in names:
        words = f"expected the columns {', '.join(COLUMNS)}, found {', '.join(names) or 'none'}"
        problems.append(
            Problem("people-unreadable", "error", words, Origin(path, line=1), "name the column of the names `name`")
        )
        return
    reader.fieldnames = names
    for number, row in enumerate(reader, 2):
        given = {key: (row.get(key) or "").strip() for key in COLUMNS}
        state = given["left"].casefold()
        if not given["name"] or state not in _YES | _NO:
            found = f"left = '{given['left']}'" if given["name"] else "no name"
            words = f"expected a name, and yes or no for `left`, found {found}"
            problems.append(
                Problem(
                    "people-unreadable", "error", words, Origin(path, line=number), "correct the row: it is left out"
                )
            )
            continue
        yield Person(given["name"], given["mail"], given["team"], state in _YES)

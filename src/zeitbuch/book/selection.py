# How a recorded state is named: @3, @latest, @2026-11-01 (the last one up to the end of that day, UTC).
"""Snapshots and versions by number, date or name."""

from __future__ import annotations

import datetime
import difflib
from collections.abc import Callable, Sequence

from zeitbuch.core.model.problems import ZeitbuchError, fail

from .lines import line_name
from .records import Entry, Version


def _last_moment(key: str) -> str | None:
    """A date or time as the last moment that it names, in UTC; None when it is none."""
    try:
        if len(key) == 10:
            return f"{datetime.date.fromisoformat(key).isoformat()}T23:59:59Z"
        when = datetime.datetime.fromisoformat(key)
    except ValueError:
        return None
    if when.tzinfo is None:
        when = when.replace(tzinfo=datetime.UTC)
    return book_time(when)


def book_time(when: datetime.datetime) -> str:
    """A time as it stands in the book."""
    return when.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def find_snapshot(snapshots: Sequence[Entry], key: str, line: str = "") -> Entry:
    """The snapshot of a line that a key names. Raises ZeitbuchError when there is none."""
    if not snapshots:
        where = f"line '{line_name(line)}' of the book" if line else "book"
        raise fail(
            "book-none",
            f"expected a snapshot in the {where}, found none yet",
            "`zeitbuch record` takes one; `zeitbuch history --lines` lists the lines",
        )
    if key == "latest":
        return snapshots[-1]
    if key.isdecimal():
        found = next((entry for entry in snapshots if entry.number == int(key)), None)
        if found is not None:
            return found
        last = snapshots[-1].number
        raise fail(
            "book-unknown", f"expected a snapshot from @1 to @{last}, found @{key}", "`zeitbuch history` lists them"
        )
    moment = _last_moment(key)
    if moment is None:
        raise fail(
            "book-unknown",
            f"expected @NUMBER, @latest or @DATE (2026-11-01), with a line @LINE:NUMBER, found @{key}",
            "`zeitbuch history` lists the snapshots",
        )
    before = [entry for entry in snapshots if entry.at <= moment]
    if not before:
        raise fail("book-unknown", f"expected a snapshot up to {key}, found the first on {snapshots[0].at}")
    return before[-1]


def flow_versions(versions: Sequence[Version], key: str) -> list[Version]:
    """The versions of the flow with this id or name (now or once). Raises ZeitbuchError when there is none or several."""
    low = key.casefold()
    for test in (
        lambda v: v.id == key,
        lambda v: v.name.casefold() == low,
        lambda v: low in v.name.casefold(),
    ):
        keys = {version.flow for version in versions if test(version)}
        if len(keys) > 1:
            keys = _still_named(versions, keys, test)
        if len(keys) == 1:
            (one,) = keys
            return [version for version in versions if version.flow == one]
        if keys:
            names = sorted({f"{version.name} ({version.id})" for version in versions if version.flow in keys})
            raise fail(
                "flow-unknown",
                f"expected one flow, found {len(keys)} by '{key}': {', '.join(names[:6])}",
                "name it by its id",
            )
    raise _unknown_flow(versions, key)


def _still_named(versions: Sequence[Version], keys: set[int], test: Callable[[Version], bool]) -> set[int]:
    named = {
        version.flow
        for version in versions
        if version.flow in keys and version == _last_version(versions, version.flow) and test(version)
    }
    return named or keys


def _unknown_flow(versions: Sequence[Version], key: str) -> ZeitbuchError:
    near = difflib.get_close_matches(
        key, sorted({version.name for version in versions} | {version.id for version in versions}), 3, 0.4
    )
    hint = (
        "did you mean " + " or ".join(f"'{name}'" for name in near) + "?"
        if near
        else "`zeitbuch inventory @latest` lists the flows"
    )
    return fail("flow-unknown", f"expected the id or name of a recorded flow, found '{key}'", hint)


def _last_version(versions: Sequence[Version], flow: int) -> Version:
    return max((version for version in versions if version.flow == flow), key=lambda v: v.number)


def find_version(own: Sequence[Version], key: str, snapshots: Sequence[Entry]) -> Version:
    """One version of a flow by its number, `latest` or a date."""
    there = [version for version in own if version.status != "removed"]
    if key == "latest":
        return there[-1]
    if key.isdecimal():
        found = next((version for version in there if version.number == int(key)), None)
        if found is None:
            numbers = ", ".join(str(version.number) for version in there)
            raise fail(
                "book-unknown",
                f"expected a version of '{own[-1].name}' ({numbers}), found {key}",
                "`zeitbuch history FLOW` lists them",
            )
        return found
    number = find_snapshot(snapshots, key).number
    before = [version for version in own if version.snapshot <= number]
    if not before or before[-1].status == "removed":
        raise fail(
            "book-unknown",
            f"expected '{own[-1].name}' in the state of {key}, found no such flow then",
            "`zeitbuch history FLOW` says when it was added and removed",
        )
    return before[-1]

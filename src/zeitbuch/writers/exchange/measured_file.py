# What was measured as a file of assumptions: each rule says on what it rests, and what is not written stands there as a comment.
"""Files of measured assumptions."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date

import tomlkit
from tomlkit import TOMLDocument
from tomlkit.items import Comment, Table

from zeitbuch.core.assumptions.values import EVIDENCE_WORDS
from zeitbuch.core.calibrate.records import Calibrated, Measured, SeasonMeasured
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.sheet import number_text
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.calibrate_tables import cases_words, remark_lines
from zeitbuch.writers.escape.text import make_inert

_DIGITS = 6


def measured_text(found: Calibrated) -> str:
    """The file (TOML)."""
    document = tomlkit.document()
    document.add(
        _comment(
            f"Measured on usage from {found.first_day} to {found.last_day} ({count_words(found.days, 'day')} with lines):"
        )
    )
    for source in found.sources:
        hashed = f", SHA-256 {source.sha256}" if source.sha256 else ""
        document.add(_comment(f"  {source.file}{hashed}"))
    document.add(
        _comment(
            "These rules hold where nothing that is declared is as near: name the file with --measured, or as `measured` in zeitbuch.toml."
        )
    )
    for line in remark_lines(found):
        document.add(_comment(line))
    for words in _not_written(found):
        document.add(_comment(f"not written: {words}"))
    document.add("assumptions", tomlkit.item(1))
    _add_tables(document, "season", [_season(one) for one in found.seasons if one.written])
    _add_tables(document, "assume", [_rule(one) for one in found.measured if one.written])
    return tomlkit.dumps(document)


def _not_written(found: Calibrated) -> Iterator[str]:
    for one in found.measured:
        if not one.written:
            yield f"{one.flow_name}, {one.subject}: {number_text(one.value)}; {one.why}"
    for season in found.seasons:
        if not season.written:
            yield f"{season.flow_name}, season: {', '.join(map(number_text, season.factors))}; {season.why}"


def _add_tables(document: TOMLDocument, key: str, rows: Iterable[Table]) -> None:
    tables = tomlkit.aot()
    for row in rows:
        tables.append(row)
    if len(tables):
        document.add(key, tables)


def _comment(text: str) -> Comment:
    """A comment of one line, whatever names of logs hold."""
    return tomlkit.comment(make_inert(text, keep_lines=False))


def _season(one: SeasonMeasured) -> Table:
    row = tomlkit.table()
    row.add("flow", literal_pattern(one.flow))
    row.add("factors", list(one.factors))
    row.add("note", f"measured: {one.runs:,.0f} runs, {one.first_day} to {one.last_day}")
    return row


def _rule(one: Measured) -> Table:
    row = tomlkit.table()
    row.add("flow", literal_pattern(one.flow))
    for key in ("step", "case", "trigger"):
        if getattr(one, key):
            row.add(key, getattr(one, key))
    if one.since:
        row.add("from", date.fromisoformat(one.since))
    if one.weekdays:
        row.add("weekdays", list(one.weekdays))
    value, low, high = (_rounded(number) for number in (one.value, one.low, one.high))
    if low < value < high:
        figure = tomlkit.inline_table()
        figure.update({"mean": value, "mean_low": low, "mean_high": high})
        row.add(one.quantity, figure)
    else:
        row.add(one.quantity, value)
    row.add("evidence", "measured")
    row.add("note", _note(one))
    return row


def _note(one: Measured) -> str:
    before = ""
    if one.before is not None and one.before_evidence is not None:
        before = f"; before {number_text(one.before)} ({EVIDENCE_WORDS[one.before_evidence]})"
    why = f"; {one.why}" if one.why else ""
    return f"{cases_words(one)}, {one.first_day} to {one.last_day}{before}{why}"


def _rounded(number: float) -> float:
    return float(f"{number:.{_DIGITS}g}")

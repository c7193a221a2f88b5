# From the lines of a log to usage records of one form: typed, in one zone, with a mark where a value could not be used.
"""Usage records as an expression over the lines of a log."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.actuals.columns import BY_NAME, USAGE_COLUMNS, UsageColumn
from zeitbuch.core.actuals.usage_mapping import ColumnRule, UsageMapping
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin

from .engines import EMBEDDED, EngineWords
from .log_tables import FILE
from .text_values import MONEY, clock_expression, day_expression, number_expression

_MOST = 1e18
_TYPES = {
    "time": "timestamp",
    "day": "date",
    "name": "string",
    "count": "float64",
    "money": MONEY,
    "seconds": "float64",
}


def missing_columns(lines: Any, mapping: UsageMapping, path: str) -> list[Problem]:
    """A problem for each column that the mapping names and the log does not have."""
    there = [name for name in lines.columns if name != FILE]
    asked = [
        (name, rule.column) for name in mapping.column if (rule := mapping.rule_of(name)) is not None and rule.column
    ]
    asked += [
        (name, column)
        for name in mapping.column
        if (rule := mapping.rule_of(name)) is not None
        for column in rule.where
    ]
    asked += [("without", one.column) for one in mapping.without]
    return [
        Problem(
            "usage-column", "error", f"expected the column '{column}' for {name}, found {', '.join(there[:20])}",
            Origin(path), "correct the mapping, or set separator and skip",
        )
        for name, column in asked
        if column not in there
    ]  # fmt: skip


def records_of(lines: Any, mapping: UsageMapping, words: EngineWords = EMBEDDED) -> Any:
    """Usage records: all columns of the table, ``refused_NAME`` (0 or 1) for those that the mapping names, ``passed``, ``is_failed``, ``is_late``,
    ``file``, and ``whole``, a digest that lines share which are equal in every column of the log."""
    import ibis

    made: dict[str, Any] = {}
    for row in USAGE_COLUMNS:
        rule = mapping.rule_of(row.name)
        if rule is None:
            made[row.name] = ibis.null(_TYPES[row.sort])
            continue
        value, raw = _value_of(lines, row, rule, mapping, words)
        made[row.name] = value
        made[f"refused_{row.name}"] = _is_refused(raw, value)
    if "day" not in mapping.column:
        made["day"] = made["time"].date()
    if "currency" not in mapping.column and mapping.currency:
        made["currency"] = ibis.literal(mapping.currency)
    if "calls" not in mapping.column:
        made["calls"] = _calls(made, mapping)
    for mark, words_of in (("is_failed", mapping.failed), ("is_late", mapping.timed_out)):
        made[mark] = _is_ended(made["status"], words_of)
    made["passed"] = _passed(lines, mapping)
    made["doubled"] = ibis.literal(False)
    made["file"] = lines[FILE]
    made["whole"] = words.digest(_whole_line(lines, mapping))
    return lines.select(**made)


def _is_ended(status: Any, words: list[str]) -> Any:
    """1 for lines whose status is one of some words."""
    import ibis

    known = [word.casefold() for word in words]
    ended = status.strip().lower().isin(known).fill_null(False) if known else ibis.literal(False)
    return ibis.ifelse(ended, 1, 0)


def _whole_line(lines: Any, mapping: UsageMapping) -> Any:
    """All that a line says but when it arrived: sent twice it is one."""
    import ibis

    arrived = mapping.rule_of("arrived")
    aside = {FILE, arrived.column} if arrived is not None else {FILE}
    parts = [lines[name].cast("string").fill_null("\x1e") for name in lines.columns if name not in aside]
    # To be digested: quick hashes of engines give one number for texts that differ in two places alike, as a minute and an id of a run may.
    return ibis.literal("\x1f").join(parts)


def _calls(made: dict[str, Any], mapping: UsageMapping) -> Any:
    """Model calls of a line that does not count them: of a call one, of a step one where it names a model, of a run nobody knows,
    nor of steps that name no models."""
    import ibis

    if mapping.stands_for == "step" and "model" in mapping.column:
        return ibis.ifelse(made["model"].notnull(), 1.0, 0.0)
    return ibis.literal(1.0 if mapping.stands_for == "call" else None, type="float64")


def refused_mark(lines: Any, mapping: UsageMapping, name: str, words: EngineWords = EMBEDDED) -> Any:
    """1 for lines with a value for a column that could not be used."""
    rule = mapping.rule_of(name)
    assert rule is not None
    value, raw = _value_of(lines, BY_NAME[name], rule, mapping, words)
    return _is_refused(raw, value)


def _value_of(
    lines: Any, row: UsageColumn, rule: ColumnRule, mapping: UsageMapping, words: EngineWords
) -> tuple[Any, Any]:
    """The value of a column and what stands in the log for it (nothing where it is fixed)."""
    import ibis

    if rule.fixed:
        value = _fixed(row, rule)
        return (ibis.ifelse(_holds(lines, rule), value, ibis.null(value.type())) if rule.where else value), None
    raw = lines[rule.column]
    if rule.where:
        raw = ibis.ifelse(_holds(lines, rule), raw, ibis.null(raw.type()))
    if row.sort == "time":
        return clock_expression(raw, rule.format, mapping, words), raw
    if row.sort == "day":
        return day_expression(raw, rule.format, words), raw
    if row.sort == "name":
        text = raw.cast("string").nullif("")  # blanks around names go when they are added up
        known = [(text.strip() == word, ibis.literal(said)) for word, said in rule.values.items()]
        return (ibis.cases(*known, else_=text) if known else text), None
    kind = _TYPES[row.sort]
    number = number_expression(raw, mapping, kind, words) if raw.type().is_string() else words.try_cast(raw, kind)
    if row.sort != "money":  # neither below nothing, nor without end, nor what is called no number
        number = ibis.ifelse((number >= 0) & (number <= ibis.literal(_MOST)), number, ibis.null(kind))
    return (number if rule.times == 1 else (number * ibis.literal(str(rule.times)).cast(kind)).cast(kind)), raw


def _holds(lines: Any, rule: ColumnRule) -> Any:
    """Whether a line is one of those that a rule is for."""
    import ibis

    found = ibis.literal(True)
    for column, words in rule.where.items():
        found = found & lines[column].cast("string").strip().lower().isin(
            [word.casefold() for word in words]
        ).fill_null(False)
    return found


def _fixed(row: UsageColumn, rule: ColumnRule) -> Any:
    import ibis

    if row.sort == "name":
        return ibis.literal(rule.fixed)
    kind = _TYPES[row.sort]
    return (ibis.literal(rule.fixed).cast(kind) * ibis.literal(str(rule.times)).cast(kind)).cast(kind)


def _is_refused(raw: Any, value: Any) -> Any:
    """1 where something stands in the log and no value came of it."""
    import ibis

    if raw is None:
        return ibis.literal(0)
    # Few values are none: of these only it is asked whether they are blank, which costs most.
    return ibis.ifelse(value.isnull() & raw.notnull(), ibis.ifelse(raw.cast("string").strip() != "", 1, 0), 0)


def _passed(lines: Any, mapping: UsageMapping) -> Any:
    import ibis

    found = ibis.literal(False)
    for one in mapping.without:
        text = lines[one.column].cast("string").strip()
        if one.equals:
            found = found | text.lower().isin([word.casefold() for word in one.equals]).fill_null(False)
        if one.empty:
            found = found | text.isnull() | (text == "")
    return found

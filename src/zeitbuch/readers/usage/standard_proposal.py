# A log in a standard form says itself what its columns are. What no standard settles is which of its names are flows and steps of the estate, and
# which articles of a bill are tokens: that is looked up in its values.
"""Proposals of mappings for logs in standard forms."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec
from msgspec import structs

from zeitbuch.core.actuals.matching import Names
from zeitbuch.core.actuals.usage_mapping import ColumnRule, LogForm, UsageMapping

from .column_guesses import ColumnGuess
from .column_words import head_words
from .log_sample import LogSample
from .mapping_proposal import MappingProposal
from .standard_logs import settled_mapping

_BILL = frozenset({"BilledCost", "BillingCurrency", "ChargePeriodStart"})  # mandatory in FOCUS 1.0 to 1.2
_ARTICLES = ("SkuMeter", "ChargeDescription", "SkuId", "ResourceName")
_KINDS = (
    ("tokens_cached", frozenset({"cached", "cache"})),
    ("tokens_in", frozenset({"input", "prompt", "in"})),
    ("tokens_out", frozenset({"output", "completion", "out", "generated"})),
)
_ENOUGH = 0.5  # of the values of a column
_UNIT = re.compile(r"(?<![\w.,])(?:(1?\s*k|1,?000|thousands?)|(1?\s*m|1,?000,?000|millions?))(?![\w.,])", re.I)
_ONE = re.compile(r"1?\s*tokens?", re.I)


def standard_form_of(sample: LogSample) -> LogForm:
    """The standard form of a log, or nothing."""
    if sample.form in ("otlp", "xes"):
        return sample.form
    return "focus" if set(sample.head) >= _BILL else ""


def propose_standard(sample: LogSample, form: LogForm, known: Mapping[str, Names]) -> MappingProposal:
    """The mapping of a log in a standard form, with the columns that hold the estate's names."""
    remarks: list[str] = []
    base = UsageMapping(
        form=form,
        files=[Path(sample.path).name],
        separator=sample.separator,
        encoding=sample.encoding,
        skip=sample.skip,
    )
    sample = _with_tags(sample) if form == "focus" else sample
    made = settled_mapping(base, sample.head)
    columns = dict(made.column)
    columns |= _named_columns(sample, columns, known, remarks)
    if form == "focus":
        columns |= dict(_articles(sample, remarks))
    rules = {name: rule.column if isinstance(rule, ColumnRule) else rule for name, rule in columns.items()}
    guesses = tuple([ColumnGuess(name, column, 1.0) for name, column in rules.items()])
    if "flow" not in columns:
        remarks.append('no column holds flows of the estate: name it, or give one flow with flow = { fixed = "..." }')
    left = tuple(head for head in sample.head if head not in rules.values())
    return MappingProposal(structs.replace(made, column=columns), guesses, (), left, tuple(remarks))


def _named_columns(
    sample: LogSample, columns: Mapping[str, str | ColumnRule], known: Mapping[str, Names], remarks: list[str]
) -> dict[str, str | ColumnRule]:
    """For flows, steps and models the columns that hold the most names of the estate, where they hold more than those of the standard."""
    found: dict[str, str | ColumnRule] = {}
    ids = {columns.get(name) for name in ("time", "run", "status", "environment")}
    for name in ("flow", "step", "model"):
        free = [head for head in sample.head if head not in found.values() and head not in ids]
        shares = {head: _share_known(sample, head, known[name]) for head in free}
        rule = columns.get(name)
        usual = rule.column if isinstance(rule, ColumnRule) else rule
        best = max(shares, key=lambda head: (shares[head], head == usual), default="")
        if best and best != usual and shares[best] >= _ENOUGH > shares.get(usual or "", 0.0):
            found[name] = best
            remarks.append(f"'{best}' holds names of the estate ({shares[best]:.0%} of its values): it is {name}")
    return found


def _with_tags(sample: LogSample) -> LogSample:
    """The sample with a column for each tag."""
    if "Tags" not in sample.head:
        return sample
    place = sample.head.index("Tags")
    held = [_tags_of(row[place]) for row in sample.rows]
    keys = sorted({key for tags in held for key in tags})
    rows = [(*row, *[tags.get(key, "") for key in keys]) for row, tags in zip(sample.rows, held, strict=True)]
    return sample._replace(head=(*sample.head, *[f"Tags.{key}" for key in keys]), rows=rows)


def _tags_of(text: str) -> dict[str, str]:
    try:
        return msgspec.json.decode(text, type=dict[str, str])
    except msgspec.MsgspecError:
        return {}


def _share_known(sample: LogSample, head: str, known: Names) -> float:
    values = set(sample.values(head))
    return sum(1 for value in values if known.match(value).id) / len(values) if values else 0.0


def _articles(sample: LogSample, remarks: list[str]) -> Iterator[tuple[str, ColumnRule]]:
    """Articles of a bill that are tokens, with the unit in which they are counted."""
    for article in _ARTICLES if "ConsumedQuantity" in sample.head else ():
        kinds = _kinds_of(sample, article) if article in sample.head else {}
        if "tokens_in" in kinds and "tokens_cached" in kinds:
            kinds["tokens_in"] |= kinds["tokens_cached"]  # prompts are counted with what of them is cached
        for kind, values in kinds.items():
            times = set(values.values())
            known = next(iter(times))
            if len(times) == 1 and known is not None:
                yield kind, ColumnRule(column="ConsumedQuantity", times=known, where={article: sorted(values)})
            else:
                units = "in several units" if len(times) > 1 else "in a unit that nothing says"
                remarks.append(
                    f"{kind} ({', '.join(sorted(values)[:3])}) is counted {units}: say it by a rule of your own"
                )
        if kinds:
            return


def _kinds_of(sample: LogSample, article: str) -> dict[str, dict[str, float | None]]:
    """Kinds of tokens -> their articles with how many tokens one of the unit is (None: nothing says, or it differs)."""
    kinds: dict[str, dict[str, float | None]] = {}
    at, units = sample.head.index(article), sample.head.index("ConsumedUnit") if "ConsumedUnit" in sample.head else None
    for row in sample.rows:
        value, unit = row[at].strip(), row[units].strip() if units is not None else ""
        said = set(head_words(value))
        kind = next((name for name, words in _KINDS if said & words), "")
        if kind and {"token", "tokens"} & (said | set(head_words(unit))):
            times, held = _times(unit), kinds.setdefault(kind, {})
            held[value] = times if held.get(value, times) == times else None
    return kinds


def _times(unit: str) -> float | None:
    """How many tokens one of a unit is; None where it does not say."""
    found = _UNIT.search(unit)
    if found is not None:
        return 1e3 if found.group(1) else 1e6
    return 1.0 if _ONE.fullmatch(unit) else None

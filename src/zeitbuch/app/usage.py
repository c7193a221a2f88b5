# Usage logs for the use cases: which files and mappings are meant, what they sum up to, and what the estate knows of their names.
"""Opening usage logs, and what becomes of their lines."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal
from pathlib import Path

from msgspec import Struct, structs

from zeitbuch.core.actuals.card_costs import CardCosts
from zeitbuch.core.actuals.columns import MEASURES
from zeitbuch.core.actuals.grouping import UsageSum
from zeitbuch.core.actuals.matching import NameMatch
from zeitbuch.core.actuals.placing import Placing
from zeitbuch.core.actuals.reconcile import Basis, Log
from zeitbuch.core.actuals.trial import ColumnUse, NameUse, UsageTrial
from zeitbuch.core.actuals.usage_mapping import UsageMapping
from zeitbuch.core.model.problems import InputFaults, fail
from zeitbuch.core.model.records import Estate
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.readers.usage.mapping_file import load_usage_mapping
from zeitbuch.readers.usage.usage_log import Timing, UsageSums, log_files, read_usage

from .basis import EstimateBasis
from .former_names import former_names
from .session import Session


class OpenLog(Struct, frozen=True):
    """A log with its mapping and what it sums up to."""

    mapping_path: str
    mapping: UsageMapping
    found: UsageSums


def open_logs(
    session: Session, paths: Sequence[str], mappings: Sequence[str], timing: Timing | None = None
) -> list[OpenLog]:
    """The logs that are named, or those of the workspace, and with ``timing`` the durations of steps. Their faults are the session's. Raises
    ZeitbuchError where none is named."""
    workspace = session.workspace
    named = list(mappings) or [workspace.path_from_here(path) for path in workspace.usage]
    if not named:
        raise fail(
            "usage-none",
            "expected a usage mapping, found none",
            "name one with --mapping, or set usage in zeitbuch.toml",
        )
    if paths and len(named) > 1:
        raise fail(
            "usage-none", f"expected one mapping for the files named, found {len(named)}", "name it with --mapping"
        )
    logs = []
    for path in named:
        mapping = load_usage_mapping(path)
        if mapping.engine:
            mapping = structs.replace(mapping, files=[_from_folder(one, path) for one in mapping.files])
        files = log_files(paths, mapping, str(Path(path).parent))
        if not files and not mapping.engine:
            raise fail(
                "usage-none",
                f"expected the files of a log, found none in {path}",
                "name them, or set files in the mapping",
            )
        with session.progress(len(files) or 1, "reading usage") as advance:
            found = read_usage(files, mapping, timing)
            advance(len(files) or 1)
        session.problems += found.problems
        logs.append(OpenLog(path, found.mapping, found))
    return logs


def _from_folder(file: str, mapping_path: str) -> str:
    """A file of an engine: an address as it is, a path as seen from the mapping's folder."""
    return file if "://" in file else str((Path(mapping_path).parent / file).absolute())


def refuse_unread(logs: Sequence[OpenLog]) -> None:
    """Raises InputFaults where no log can be read."""
    faults = [problem for one in logs for problem in one.found.problems]
    if faults and not any(one.found.sums for one in logs):
        raise InputFaults(faults)


def estimate_side(session: Session, estate: Estate, basis: EstimateBasis) -> Basis:
    """The estimate's side for the core."""
    return Basis(estate, basis.card, basis.assumptions, basis.counters, former_names(session, estate))


def as_log(one: OpenLog) -> Log:
    """A log for the core."""
    return Log(one.found.sums, one.found.runs, one.mapping, one.found.hours, one.found.part_days)


def try_usage(
    log: OpenLog, estate: Estate, card: RateCard | None, former: Mapping[str, Sequence[str]] | None = None
) -> UsageTrial:
    """What becomes of the lines of a log, and which of its names are which of the estate, or once were (``former``: names by id)."""
    sums = [one for one in log.found.sums if not one.passed]
    days = sorted({one.day for one in sums if one.day is not None})
    columns = [
        ColumnUse(
            name, rule.column or f"= {rule.fixed}", _total_of(name, sums, log.mapping), log.found.refused.get(name, 0)
        )
        for name in log.mapping.column
        if (rule := log.mapping.rule_of(name)) is not None
    ]
    return UsageTrial(
        log.found.files,
        log.found.lines,
        sum(one.lines for one in log.found.sums if one.passed),
        log.found.rejected,
        days[0] if days else "",
        days[-1] if days else "",
        len(days),
        tuple(columns),
        tuple(
            _names_of(
                sums,
                Placing(estate, log.mapping, CardCosts(card), card.currency if card is not None else "", former),
                estate,
            )
        ),
        log.found.zone,
        tuple(log.found.part_days),
    )


def _total_of(name: str, sums: Iterable[UsageSum], mapping: UsageMapping) -> str:
    """The sum of a measure; of names how many there are."""
    if name in MEASURES:
        values = [value for one in sums if (value := getattr(one, name)) is not None]
        if name == "cost":
            by: dict[str, Decimal] = {}
            for one in sums:
                by[one.currency] = by.get(one.currency, Decimal(0)) + (one.cost or Decimal(0))
            return ", ".join(f"{money:,.2f} {currency}".strip() for currency, money in by.items())
        return f"{sum(values):,.0f}"
    if name in ("time", "arrived", "day", "run", "status"):
        return ""
    return f"{len({getattr(one, name) for one in sums if getattr(one, name)}):,} different"


def _names_of(sums: Sequence[UsageSum], placing: Placing, estate: Estate) -> list[NameUse]:
    """Flows, steps and models of the log, the most costly first."""
    used: dict[tuple[str, str], list[UsageSum]] = {}
    matches: dict[tuple[str, str], NameMatch] = {}
    for one in sums:
        flow = placing.flows.match(one.flow)
        pairs = [("flow", one.flow, flow), ("model", one.model, placing.models.match(one.model))]
        if flow.id and one.step:
            pairs.append(("step", f"{one.flow}/{one.step}", placing.steps_of(flow.id).match(one.step)))
        for sort, name, match in pairs:
            if name:
                used.setdefault((sort, name), []).append(one)
                matches[(sort, name)] = match
    titles = {flow.id: flow.title for flow in estate.flows}
    rows = [_name_use(sort, name, held, matches[(sort, name)], placing, titles) for (sort, name), held in used.items()]
    order = {"flow": 0, "step": 1, "model": 2}
    return sorted(rows, key=lambda row: (order[row.sort], -(row.cost or Decimal(0)), -row.lines, row.name))


def _name_use(
    sort: str, name: str, held: Sequence[UsageSum], match: NameMatch, placing: Placing, titles: Mapping[str, str]
) -> NameUse:
    costs = [one.cost for one in held if one.cost is not None]
    kind, meant = match.kind, titles.get(match.id, match.id)
    meant = meant or ", ".join(titles.get(near, near) for near in match.near)
    if sort == "model" and kind == "none" and placing.model_of(name) != name:
        kind, meant = "exact", placing.model_of(name)  # a name that the rate card knows
    return NameUse(sort, name, sum(one.lines for one in held), sum(costs, Decimal(0)) if costs else None, kind, meant)

# What is left to declare: every number of every flow that stands on a default, with what it is now and by how much it moves the bill.
"""Assumptions that nobody has made yet."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping

from msgspec import Struct, structs

from zeitbuch.core.assumptions.rules import Assumptions, Rule, overlay_rules
from zeitbuch.core.assumptions.volume import trigger_volume
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow, Step, Trigger
from zeitbuch.core.pricing.meters import meters_of, per_run, price_of_more

from .day_parts import lookup_on
from .estate import EstateFigures, bill_runs
from .flow_figures import FlowFigures, one_run
from .knobs import Knob, find_knobs


class OpenEntry(Struct, frozen=True):
    """One entry to fill in: where it applies, its quantity, what it is now (None: unknown), between what it may be, where that comes from,
    and by how much it moves the month's bill for models and meters (of a flow of unknown volume: that of a run). ``told``: words for
    people."""

    where: tuple[tuple[str, str], ...]
    quantity: str
    value: float | None
    low: float
    high: float
    why: str
    told: str
    moves: float
    per: str = "month"


def find_open_entries(
    runs: EstateFigures,
    assumptions: Assumptions,
    progress: Callable[[int], None] | None = None,
    wanted: frozenset[str] = frozenset(),
    names: Counter[str] | None = None,
) -> list[OpenEntry]:
    """All of the flows with the ``wanted`` ids (without any: of all) that stands on a default or is not known at all: volumes that nobody
    knows first, then what moves the bill most. ``names``: how many flows of the estate have each name, where the runs are of a part."""
    names = names or Counter(runs.by[keys[0]].flow.name for keys in runs.whole_flows().values())
    found: list[OpenEntry] = []
    each = _prices_of_one_more(runs)
    for place, keys in enumerate(runs.whole_flows().values()):
        one = runs.by[keys[0]].flow
        if wanted and one.id not in wanted:
            continue
        flow = literal_pattern(one.name if one.name and names[one.name] == 1 else one.id)
        entries = [entry for key in keys for entry in _entries_of(key, flow, runs, assumptions, each)]
        found += entries if len(keys) == 1 else _once(entries)
        if progress is not None:
            progress(place)
    return sorted(found, key=lambda e: (e.value is not None, e.per != "month", -e.moves, e.where, e.quantity))


def _prices_of_one_more(runs: EstateFigures) -> dict[str, float]:
    """What one more unit of each meter costs beyond those that all flows use, by the name of the meter."""
    card, calendar = runs.prices.card, runs.prices.calendar
    used: dict[str, float] = {}
    for bill in bill_runs(runs)[1].hosts:
        used[bill.meter] = used.get(bill.meter, 0.0) + bill.units
    meters = [meter for meter in card.meter if meter.name in used] if card is not None else []
    return {
        meter.name: price_of_more(card, meter, calendar.spans[0].first, used[meter.name])
        for meter in meters
        if card is not None
    }


def _entries_of(
    key: str, flow: str, runs: EstateFigures, assumptions: Assumptions, each: Mapping[str, float]
) -> list[OpenEntry]:
    """The entries of one flow, or of some days of it."""
    run = runs.by[key]
    knobs = [knob for knob in find_knobs(run, month=True) if knob.value.evidence == "default" and knob.value.amount]
    return [
        *_volumes_of(run, flow, runs),
        *[_entry_of(knob, flow, run, runs, key, assumptions, each) for knob in knobs],
    ]


def _once(entries: list[OpenEntry]) -> list[OpenEntry]:
    """What is open on several days, once: how much it moves adds up."""
    by: dict[tuple[object, str, str], OpenEntry] = {}
    for entry in entries:
        had = by.get((entry.where, entry.quantity, entry.per))
        by[entry.where, entry.quantity, entry.per] = (
            entry if had is None else structs.replace(had, moves=had.moves + entry.moves)
        )
    return list(by.values())


def _volumes_of(run: FlowFigures, flow: str, runs: EstateFigures) -> list[OpenEntry]:
    """The triggers of which nobody says how often they start a run."""
    found = []
    for trigger in run.flow.triggers if run.flow.state != "off" else ():
        try:
            volume = trigger_volume(
                trigger, lookup_on(run.part, runs.assumptions, runs.month, run.flow), runs.month, None
            )
        except ZeitbuchError:
            continue
        if volume.runs is None and trigger.kind != "call":
            where = (("flow", flow), ("trigger", literal_pattern(trigger.name or trigger.id)))
            told = f"runs of ‘{trigger.title}’"
            found.append(OpenEntry(where, "runs", None, 0.0, 0.0, volume.why, told, 0.0))
    return found


def _entry_of(
    knob: Knob,
    flow: str,
    run: FlowFigures,
    runs: EstateFigures,
    key: str,
    assumptions: Assumptions,
    each: Mapping[str, float],
) -> OpenEntry:
    from zeitbuch.core.assumptions.worlds import doubt_of  # NumPy, which most estimates do without

    low, high = doubt_of(knob.quantity, knob.value)
    ends = [_cost_at(knob, end, run, runs, assumptions, each) for end in (low, high)]
    volume = runs.volumes[key].runs
    moves = abs(ends[1] - ends[0]) * (1.0 if volume is None else volume)
    where = (("flow", flow), *((side, _named(run.flow, side, pattern)) for side, pattern in knob.rule.items()))
    amount = float(knob.value.amount)
    per = "run" if volume is None else "month"
    return OpenEntry(where, knob.quantity, amount, low, high, knob.value.why, knob.what, moves, per)


def _cost_at(
    knob: Knob,
    value: float,
    run: FlowFigures,
    runs: EstateFigures,
    assumptions: Assumptions,
    each: Mapping[str, float],
) -> float:
    """What a run costs with another value, as many times as it then comes more often: models, and meters at what one more unit costs."""
    rule = Rule(flow=literal_pattern(run.flow.id), **knob.rule, **{knob.quantity: value})  # type: ignore[arg-type]
    other = one_run(run.flow, overlay_rules(assumptions, (rule,)), runs.prices, runs.month, False, part=run.part)
    times = 1.0
    if run.volume.runs and other.volume.runs is not None:
        times = other.volume.runs / run.volume.runs
    card, metered = runs.prices.card, other.metered
    if card is None or metered is None:
        return float(other.cost.amount) * times
    meters = meters_of(card, run.flow, runs.prices.calendar)
    units = sum(each.get(m.name, 0.0) * float(per_run(m, metered, card)) / float(m.unit) for m in meters)
    return (float(other.cost.amount) + units) * times


def _named(flow: Flow, side: str, pattern: str) -> str:
    """A step or trigger by its name, where that is its alone."""
    parts: tuple[Step | Trigger, ...] = flow.steps if side == "step" else flow.triggers if side == "trigger" else ()
    names = Counter(part.name for part in parts)
    one = next((part for part in parts if literal_pattern(part.id) == pattern), None)
    return literal_pattern(one.name) if one is not None and one.name and names[one.name] == 1 else pattern

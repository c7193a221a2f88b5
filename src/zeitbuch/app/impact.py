# What hangs on a thing: the flows that need it, with what they are today, so that it is known whom to tell before it is gone.
"""The use case of `impact`."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence

from msgspec import Struct, structs

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.estimate.records import EstateEstimate, FlowEstimate
from zeitbuch.core.layout.estate_map import By
from zeitbuch.core.model.name_patterns import pattern_fits
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.report.impact.records import ENDINGS, FlowImpact, Happening, ImpactResult, Touched
from zeitbuch.core.report.impact.spread import needing_flows, spread_loss
from zeitbuch.core.report.impact.tables import impact_marks
from zeitbuch.core.report.impact.things import ThingRow, thing_of
from zeitbuch.writers.map.drawing import MapDrawing

from .basis import EstimateBasis
from .check_facts import gather_facts
from .map import draw_estate
from .session import Session


class ImpactRequest(Struct, frozen=True):
    """The thing, and what happens to it: it is gone, so many times slower, or so many percent dearer."""

    thing: str
    slower: float | None = None
    dearer: float | None = None
    today: str = ""

    @property
    def happening(self) -> Happening:
        """What happens."""
        return "slower" if self.slower is not None else "dearer" if self.dearer is not None else "gone"


def find_impact(session: Session, estate: Estate, basis: EstimateBasis, request: ImpactRequest) -> ImpactResult:
    """The flows that need a thing, and what follows. Raises ZeitbuchError for a thing that is of no known sort."""
    row, name = thing_of(request.thing)
    if request.dearer is not None and row.sort not in ("model", "flow", "step"):
        raise fail(
            "thing",
            f"expected a model, flow or step to be dearer, found '{request.thing}'",
            "only these have a price of their own",
        )
    view = EstateView(estate.flows, basis.card, gather_facts(session, estate, basis, request.today, copies=False))
    figures = _figures(estate, basis)
    look = spread_loss if request.happening == "gone" else needing_flows
    found = look(view, row, name)
    if request.slower is not None:
        found = [one for flow in found if (one := _slower(estate, flow, request.slower)) is not None]
    if request.dearer is not None:
        found = [
            one for flow in found if (one := _dearer(estate, flow, figures, request.dearer / 100, row.sort)) is not None
        ]
    flows = [_with_figures(one, figures) for one in sorted(found, key=_how_bad)]
    return _summed(view, request, row, name, flows, figures)


def _how_bad(one: FlowImpact) -> tuple[int, bool, float, str]:
    """The worst first: by how it ends, how sure that is, and what it costs more."""
    return ENDINGS.index(one.ending), one.odds != "certain", -(one.dearer or 0.0), one.name.casefold()


def _summed(
    view: EstateView,
    request: ImpactRequest,
    row: ThingRow,
    name: str,
    flows: list[FlowImpact],
    figures: EstateEstimate | None,
) -> ImpactResult:
    more = [one.dearer for one in flows if one.dearer is not None]
    dearer = sum(more) if more else None
    month, currency = (figures.month, figures.currency) if figures is not None else ("", "")
    return ImpactResult(
        request.thing, request.happening, tuple(flows), month, currency, _sum_of(one.runs for one in flows),
        _sum_of(one.calls for one in flows), _sum_of(one.cost for one in flows), dearer,
        tuple(one.name for one in flows if one.runs is None), tuple(_to_tell(view, flows, name if row.sort == "person" else None)),
        "" if flows else _why_nothing(view, row, name), tuple(dict.fromkeys(name for one in flows for name in one.unpriced)),
    )  # fmt: skip


def _sum_of(values: Iterable[float | None]) -> float:
    """The sum of those that are known."""
    return sum(value for value in values if value is not None)


def _figures(estate: Estate, basis: EstimateBasis) -> EstateEstimate | None:
    try:
        return estimate_exactly(estate, basis.card, basis.assumptions, basis.month, basis.counters)
    except ZeitbuchError:
        return None  # `estimate` says why


def _of(figures: EstateEstimate | None, flow_id: str) -> FlowEstimate | None:
    return next((one for one in figures.flows if one.id == flow_id), None) if figures is not None else None


def _with_figures(one: FlowImpact, figures: EstateEstimate | None) -> FlowImpact:
    today = _of(figures, one.id)
    if today is None:
        return one
    month = today.bill_month if figures is not None and figures.currency else None
    cost, unpriced = (float(month.amount), month.unknown) if month is not None else (None, ())
    return structs.replace(one, runs=today.runs, calls=today.calls_month, cost=cost, unpriced=unpriced)


def _slower(estate: Estate, one: FlowImpact, times: float) -> FlowImpact | None:
    """What follows when a thing answers so many times slower: who only waits, and whose time limit may run out."""
    flow = estate.flow(one.id)
    if flow is None or not one.steps:
        return None
    steps = []
    for touched in one.steps:
        limit = _limit_of(flow, touched.id)
        said = f"its limit of {limit:g} s may run out" if limit is not None else "no time limit is stated: it waits"
        steps.append(Touched(touched.id, touched.name, f"{touched.why}, {said}", touched.odds))
    limited = any("may run out" in step.why for step in steps)
    ending = ("may stop" if one.ending in ("stops", "may stop") else "goes on") if limited else "waits longer"
    kept = {"lost": (), "perhaps_lost": (*one.lost, *one.perhaps_lost) if limited else ()}
    return structs.replace(
        one,
        steps=tuple(steps),
        ending=ending,
        odds="perhaps" if limited else "certain",
        dead=(),
        notes=(f"{times:g} times slower",),
        **kept,
    )


def _limit_of(flow: Flow, step_id: str) -> float | None:
    """The shortest time limit on a step in seconds: its own, that of the agent which it is attached to, or of what holds it."""
    hosts = {link.source: link.target for link in flow.links if link.role == "attach"}
    limits: list[float] = []
    seen: set[str] = set()
    key: str | None = step_id
    while key is not None and key not in seen:
        seen.add(key)
        step = flow.step(key)
        if step is not None and step.timeout is not None:
            limits.append(step.timeout)
        key = hosts.get(key) or (step.scope if step is not None else None)
    return min(limits, default=None)


def _dearer(
    estate: Estate, one: FlowImpact, figures: EstateEstimate | None, share: float, sort: str
) -> FlowImpact | None:
    """What follows when calls cost a share more."""
    today = _of(figures, one.id)
    if one.ending != "gone" if sort == "flow" else not one.steps:
        return None
    more = None
    if today is not None and today.runs is not None and figures is not None and figures.currency:
        if sort == "flow" and today.bill_month is not None and not today.bill_month.unknown:
            return structs.replace(
                one,
                ending="costs more",
                lost=(),
                perhaps_lost=(),
                dead=(),
                dearer=float(today.bill_month.amount) * share,
            )
        touched = _priced_at(estate, one, today)
        costs = [step.cost for step in today.steps if sort == "flow" or step.id in touched]
        if not any(cost.unknown for cost in costs):
            more = sum(float(cost.amount) for cost in costs) * today.runs * share
    return structs.replace(one, ending="costs more", lost=(), perhaps_lost=(), dead=(), dearer=more)


def _priced_at(estate: Estate, one: FlowImpact, today: FlowEstimate) -> set[str]:
    """The steps at which the touched ones are paid for: an attached model is paid for at the agents that call it."""
    touched = {step.id for step in one.steps}
    flow = estate.flow(one.id)
    if flow is None:
        return touched
    names = {step.id: step.model.name for step in flow.steps if step.id in touched and step.model is not None}
    called = {step.id: step.model for step in today.steps}
    attached = [link for link in flow.links if link.role == "attach" and link.source in names]
    return touched | {link.target for link in attached if called.get(link.target) == names[link.source]}


def _to_tell(view: EstateView, flows: Sequence[FlowImpact], gone: str | None) -> list[str]:
    """The owners of the flows, with their teams; not the person who is gone."""
    names = dict.fromkeys(owner for one in flows for owner in one.owners)
    found = []
    for name in names:
        if gone is not None and pattern_fits(gone, name):
            continue
        person = view.people.get(name.casefold())
        if person is not None and person.left:
            found.append(f"{name} (has left)")
        else:
            found.append(f"{name} ({person.team})" if person is not None and person.team else name)
    return found


def _why_nothing(view: EstateView, row: ThingRow, name: str) -> str:
    """Why no flow needs a thing."""
    if not view.flows:
        return "No flow was read."
    known = list(dict.fromkeys(row.names(view)))
    if any(one.casefold() == name.casefold() for one in known):
        return f"{row.sort}:{name} is there, and no step or trigger that is switched on needs it."
    near = difflib.get_close_matches(name.casefold(), [one.casefold() for one in known], 3, 0.5)
    shown = (
        sorted((one for one in known if one.casefold() in near), key=lambda one: near.index(one.casefold()))
        or known[:8]
    )
    there = f"; there are {', '.join(shown)}" if shown else ""
    return f"No flow names the {row.sort} '{name}'{there}."


def draw_impact(estate: Estate, by: By, result: ImpactResult) -> MapDrawing:
    """The map of the estate with what follows on the cards of the flows that it reaches."""
    drawing = draw_estate(estate, by, stores=True)
    marks = {f"flow {key}": mark for key, mark in impact_marks(result).items()}
    showing = structs.replace(
        drawing.showing, meters=marks, scale=f"what follows when {result.thing} is {result.happening}"
    )
    return drawing._replace(showing=showing)

# Flows that call each other, settled component by component: costs from the called flows upwards, volumes from the callers
# downwards. Flows that call each other in a circle are settled together, by the one solution of their equations; where the
# calls do not die out there is none, and the figures are unknown.
"""Costs and volumes of flows that call other flows."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal

from msgspec import structs

from zeitbuch.core.assumptions.days import Month
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.assumptions.values import Evidence, Value, weakest_evidence
from zeitbuch.core.assumptions.volume import Volume, flow_volume
from zeitbuch.core.graph.call_graph import CallGraph, build_call_graph, next_in_circle, solve_circle
from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.core.model.words import join_words
from zeitbuch.core.pricing.spans import Calendar, Weights, mean_weights

from .circles import solve_in_worlds
from .day_parts import called_name
from .flow_figures import UNNAMED, FlowFigures

ENDLESS = "calls without end"


def call_graph_of(by: Mapping[str, FlowFigures], names: Mapping[str, str]) -> CallGraph:
    """The calls between estimated flows, each with its mean number in a run."""
    calls = {
        key: {called_name(name, run.part, names): times for name, (times, _) in run.calls_of.items()}
        for key, run in by.items()
    }
    return build_call_graph(calls, names)


def costs_with_called(graph: CallGraph, by: Mapping[str, FlowFigures]) -> dict[str, Money]:
    """Cost of a run of every flow with all runs that it leads to; a callee that is not there or is switched off makes it unknown,
    through all callers, and so do calls that do not die out."""
    costs: dict[str, Money] = {}
    for component in graph.components:
        inside = set(component)
        outside = [_cost_outside(key, graph, by, costs, inside) for key in component]
        if not graph.is_circle(component):
            costs[component[0]] = outside[0]
            continue
        unknown = tuple(dict.fromkeys(name for money in outside for name in money.unknown))
        solved = solve_circle(graph, component, [float(money.amount) for money in outside])
        for place, key in enumerate(component):
            if solved is None:
                endless = f"{ENDLESS} of '{by[key].flow.title}'"
                costs[key] = Money(outside[place].amount, (*unknown, endless))
            else:
                costs[key] = Money(Decimal(solved[place]), unknown)
    return costs


def spent_with_called(graph: CallGraph, by: Mapping[str, FlowFigures]) -> dict[str, float]:
    """What a run of every flow costs with all runs that it leads to, in every world (see ``costs_with_called``)."""
    spent: dict[str, float] = {}
    for component in graph.components:
        inside = set(component)
        outside = [
            by[key].sums.spent
            + sum([spent[other] * times for other, times in graph.callees[key].items() if other not in inside])
            for key in component
        ]
        solved = solve_in_worlds(graph, component, outside) if graph.is_circle(component) else outside
        spent.update(zip(component, solved if solved is not None else outside, strict=True))
    return spent


def _cost_outside(
    key: str, graph: CallGraph, by: Mapping[str, FlowFigures], costs: Mapping[str, Money], inside: set[str]
) -> Money:
    """A flow's own cost with that of the flows it calls outside its circle."""
    total = by[key].cost
    if by[key].calls_of:
        total += unknown_callees(key, graph, by)
    for other, times in graph.callees[key].items():
        if other not in inside:
            total += costs[other].times(times)
    return total


def unknown_callees(key: str, graph: CallGraph, by: Mapping[str, FlowFigures]) -> Money:
    """What a flow calls of which nobody knows what it costs: flows that were not read, and such as are switched off."""
    calls = by[key].calls_of
    names = [name for name in graph.missing.get(key, ()) if calls[name][0]]
    names += [by[other].flow.title for other in _switched_off(key, graph, by)]
    return Money(unknown=tuple(UNNAMED if name == UNNAMED else f"the called flow '{name}'" for name in names))


def _switched_off(key: str, graph: CallGraph, by: Mapping[str, FlowFigures]) -> list[str]:
    return [other for other in graph.callees[key] if other != key and by[other].flow.state == "off"]


def notes_on_calls(graph: CallGraph, by: Mapping[str, FlowFigures]) -> dict[str, list[str]]:
    """What is to be said about the calls of flows: callees that are not there, circles."""
    notes: defaultdict[str, list[str]] = defaultdict(list)
    for key, missing in graph.missing.items():
        notes[key] += [
            "it calls a flow that the export does not name: what that costs is not known"
            if name == UNNAMED
            else f"it calls '{name}', which is not among the flows read: what that costs is not known"
            for name in missing
        ]
    for key in by:
        for other in _switched_off(key, graph, by):
            off = f"it calls '{by[other].flow.title}', which is switched off"
            notes[key].append(f"{off}: whether that runs, and what it costs, is not known")
    for component in graph.components:
        if not graph.is_circle(component):
            continue
        repeats = solve_circle(graph, component, [1.0] * len(component))
        for place, key in enumerate(component):
            through = by[next_in_circle(graph, key, component)].flow.title
            counted = (
                f"one run of it leads to {repeats[place]:,.4g} runs of the {len(component)} flows of that circle"
                if repeats is not None and len(component) > 1
                else f"one start of it leads to {repeats[place]:,.4g} runs"
                if repeats is not None
                else "expected calls that die out, found that every run leads to one more or several, so that its cost has no end"
            )
            notes[key].append(f"it calls itself again through '{through}': {counted}")
    return notes


def weights_of_flows(
    graph: CallGraph, by: Mapping[str, FlowFigures], volumes: Mapping[str, Volume], calendar: Calendar
) -> dict[str, Weights | None]:
    """How the runs of every flow lie over the spans of a month: those that its own triggers start, and those that its callers lead
    to, on their days. Empty where all are by days. Flows that call each other in a circle share what comes into it."""
    if len(calendar.spans) < 2 or all(run.weights is None for run in by.values()):
        return {}
    found: dict[str, Weights | None] = {}
    for component in reversed(graph.components):
        inside = set(component)
        parts: list[tuple[float, Weights | None]] = []
        for key in component:
            parts.append((by[key].volume.runs or 0.0, by[key].weights))
            parts += [
                ((volumes[caller].runs or 0.0) * times, found[caller])
                for caller, times in graph.callers[key].items()
                if times and caller not in inside  # calls that never happen are in no order
            ]
        part = by[component[0]].part
        even = calendar.weights_of_days(part.days if part is not None else None)
        found.update(dict.fromkeys(component, mean_weights(parts, even) or (even if part is not None else None)))
    return found


class VolumeSettling:
    """Runs per month of every flow: callers are settled before the flows they call."""

    def __init__(
        self,
        graph: CallGraph,
        by: Mapping[str, FlowFigures],
        lookup_for: Callable[[FlowFigures], AssumptionLookup],
        month: Month,
    ) -> None:
        self.graph, self.by, self.lookup_for, self.month = graph, by, lookup_for, month
        self.volumes: dict[str, Volume] = {}
        self.problems: list[Problem] = []
        self.notes: dict[str, list[str]] = {}

    def settle_volumes(self) -> None:
        """Fills ``volumes``, and what is to be said in ``problems`` and ``notes``."""
        for component in reversed(self.graph.components):
            if self.graph.is_circle(component):
                self._settle_circle(component)
            else:
                key = component[0]
                self.volumes[key] = self._volume_of(key, self._runs_called(key, frozenset()))

    def _runs_called(self, key: str, inside: frozenset[str]) -> Value | None:
        """Runs that the settled callers of a flow lead to (those of its own circle, ``inside``, apart); None when there are
        none or one of them is unknown."""
        called: Value | None = None
        for caller, times in self.graph.callers[key].items():
            if caller in inside and times:
                continue
            if not times:
                called = self._add_calls(called, 0.0, self._call_evidence(caller, key))
                continue
            volume = self.volumes[caller]
            if volume.runs is None:
                self._note_unknown(key, caller)
                return None
            called = self._add_calls(called, volume.runs * times, volume.evidence, self._call_evidence(caller, key))
        return called

    @staticmethod
    def _add_calls(called: Value | None, runs: float, *evidence: Evidence) -> Value:
        had = called or Value(0.0, "export", "called by other flows")
        return Value(had.amount + runs, weakest_evidence(had.evidence, *evidence), had.why)

    def _call_evidence(self, caller: str, key: str) -> Evidence:
        flow = self.by[key].flow
        calls = self.by[caller].calls_of
        return weakest_evidence(*(evidence for name, (_, evidence) in calls.items() if name in (flow.id, flow.name)))

    def _note_unknown(self, key: str, caller: str) -> None:
        title = self.by[caller].flow.title
        said = f"calls by '{title}' are not among its runs: nothing tells how often that flow runs"
        if said not in self.notes.setdefault(key, []):
            self.notes[key].append(said)

    def _volume_of(self, key: str, called: Value | None) -> Volume:
        run = self.by[key]
        if called is None and run.volume.why:
            return run.volume
        try:
            return flow_volume(run.flow, self.lookup_for(run), self.month, called)[0]
        except ZeitbuchError as error:
            # A schedule that is none leaves this flow's volume unknown, and the others as they are.
            problem = structs.replace(error.problem, origin=run.flow.origin)
            if problem not in self.problems:
                self.problems.append(problem)
            return Volume(None, 0.0, "default", problem.message)

    def _settle_circle(self, component: Sequence[str]) -> None:
        """Volumes of flows that call each other: v = a + g (T' v), with a the runs that begin outside the circle and g
        what one more call adds (0 where a declared number of runs holds)."""
        inside = frozenset(component)
        begun: dict[str, Value] = {}
        base: dict[str, float] = {}
        gain: dict[str, float] = {}
        for key in component:
            begun[key] = self._runs_called(key, inside) or Value(0.0, "export", "called by other flows")
            volume = self._volume_of(key, begun[key])
            more = self._volume_of(key, self._add_calls(begun[key], 1.0))
            if volume.runs is None or more.runs is None:
                self.volumes[key] = volume
                continue
            base[key], gain[key] = volume.runs, more.runs - volume.runs
        known = [key for key in component if key in base]
        if known:
            self._solve_volumes(component, known, begun, base, gain)

    def _solve_volumes(
        self,
        component: Sequence[str],
        known: list[str],
        begun: Mapping[str, Value],
        base: Mapping[str, float],
        gain: Mapping[str, float],
    ) -> None:
        calls, solved = self._runs_in_circle(known, base, gain)
        names = join_words([f"'{self.by[key].flow.title}'" for key in component])
        runs = dict(zip(known, solved, strict=True)) if solved is not None else {}
        for key in known:
            if not runs:
                why = f"the flows {names} call each other without end"
                self.volumes[key] = Volume(None, 0.0, "default", why)
                continue
            called = begun[key]
            for other, times in calls[key].items():
                evidence = self._call_evidence(other, key)
                called = self._add_calls(called, runs[other] * times, evidence)
            self.volumes[key] = self._volume_of(key, called)
        self._note_unknown_callers(component, known)

    def _runs_in_circle(
        self, known: list[str], base: Mapping[str, float], gain: Mapping[str, float]
    ) -> tuple[dict[str, dict[str, float]], list[float] | None]:
        calls = {
            key: {name: total for name, total in self.graph.callers[key].items() if total and name in base}
            for key in known
        }
        scaled = {
            key: {name: total * gain[key] for name, total in others.items() if gain[key]}
            for key, others in calls.items()
        }
        system = CallGraph(scaled, {}, {}, (tuple(known),))
        solved = (
            solve_in_worlds(system, known, [base[key] for key in known])
            if any(scaled.values())
            else [base[key] for key in known]
        )
        return calls, solved

    def _note_unknown_callers(self, component: Sequence[str], known: list[str]) -> None:
        unknown = set(component) - set(known)
        for key in known:
            for other in self.graph.callers[key].keys() & unknown:
                self._note_unknown(key, other)

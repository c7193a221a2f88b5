# How a loss spreads: from the steps that need the thing to the runs of their flow (told as `explain --fails` tells them), from flows that break
# to those that call them, from stores that nobody fills any more to those that read them.
"""The flows that a loss reaches."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.graph.flow_calls import Call, calls_of, stores_of
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph, is_own_model
from zeitbuch.core.model.kinds import IDLE_KINDS
from zeitbuch.core.model.name_patterns import pattern_fits
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate, Flow, Step, Trigger
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.possible_runs import Given
from zeitbuch.core.report.what_if import Odds, WhatIfSimulation

from .records import BROKEN, Ending, FlowImpact, Touched
from .things import Need, ThingRow


class FlowLoss:
    """What is known of one flow so far."""

    def __init__(self, flow: Flow) -> None:
        self.flow, self.graph = flow, Graph(flow)
        self.touched: dict[str, Touched] = {}
        self.dead: list[Trigger] = []
        self.notes: dict[str, None] = {}
        self.through = ""
        self.is_gone = False
        self.ending: Ending = "goes on"
        self.odds: Odds = "certain"
        self.lost: list[str] = []
        self.perhaps: list[str] = []

    @cached_property
    def running(self) -> frozenset[str]:
        """The steps that some run comes to: nobody misses a thing where nothing asks for it."""
        return steps_that_may_run(self.graph)

    def needs(self, need: Need) -> None:
        """A step or trigger that needs the thing."""
        if isinstance(need.part, Trigger):
            self.dead.append(need.part)
        else:
            self.touches(need.part, need.why, need.odds)

    def touches(self, step: Step, why: str, odds: Odds) -> bool:
        """A step that fails; whether that is new."""
        had = self.touched.get(step.id)
        if had is not None and (had.odds == odds or had.odds == "certain"):
            return False
        self.touched[step.id] = Touched(step.id, step.title, why, odds)
        return True

    def tell(self) -> None:
        """Works out how the runs of the flow end."""
        if self.is_gone:
            self.ending, self.lost = "gone", [step.id for step in self.flow.steps if step.kind not in IDLE_KINDS]
            return
        failing = frozenset(self._failing())
        alive = [trigger for trigger in self.flow.triggers if trigger.enabled and trigger not in self.dead]
        starts = bool(alive) or not self.dead
        self.lost, self.perhaps, through, endless = _told(self.graph, failing)
        if endless:
            self.notes["what fails is tried again by ways back, without end"] = None
        self._lose_tools()
        if not starts:
            self.ending, self.odds = "never starts", "certain"
            return
        sure = all(one.odds == "certain" for one in self.touched.values() if one.odds != "not")
        self.ending = "goes on" if through == "certain" else "stops" if through == "not" and sure else "may stop"
        self.odds = "certain" if sure else "perhaps"

    def _failing(self) -> Iterable[str]:
        """The steps that fail: of an agent's own model the agent."""
        for one in self.touched.values():
            if one.odds == "not":
                continue
            if one.id not in self.graph.host:
                yield one.id
            for host in self.graph.hosts_of(one.id):
                if is_own_model(self.graph.steps[one.id], self.graph.steps[host]):
                    yield host

    def _lose_tools(self) -> None:
        for key in self.touched:
            for host in self.graph.hosts_of(key):
                if not is_own_model(self.graph.steps[key], self.graph.steps[host]):
                    self.perhaps.append(key)
                    self.notes[f"the agent {quote_name(self.graph.names[host])} has one tool less"] = None

    def result(self) -> FlowImpact:
        """What follows for the flow."""
        names = self.graph.names
        unsure = any(one.odds == "perhaps" for one in self.touched.values()) and not self.dead and not self.is_gone
        return FlowImpact(
            self.flow.id, self.flow.title, self.ending, "perhaps" if unsure and self.odds != "certain" else self.odds, self.through,
            tuple(self.touched.values()), tuple(trigger.title for trigger in self.dead), tuple(names[key] for key in self.lost),
            tuple(names[key] for key in dict.fromkeys(self.perhaps)), tuple(self.notes), self.flow.owners,
        )  # fmt: skip


def _told(graph: Graph, failing: frozenset[str]) -> tuple[list[str], list[str], Odds, bool]:
    """The steps that no longer run, those that perhaps do not, whether runs go through, and whether they go round for ever, when steps fail."""
    if not failing:
        return [], [], "certain", False
    try:
        before = WhatIfSimulation(graph, Given())
        before.tell_story()
        after = WhatIfSimulation(graph, Given(fails=failing))
        after.tell_story()
    except ZeitbuchError:  # too many ways: only what fails is sure
        return sorted(failing), [], "perhaps", False
    done = {key: odds for key, odds in before.odds.items() if odds != "not" and graph.steps[key].kind not in IDLE_KINDS}
    lost = [key for key in done if key in failing or after.odds.get(key, "not") == "not"]
    perhaps = [
        key for key, odds in done.items() if odds == "certain" and key not in lost and after.odds.get(key) == "perhaps"
    ]
    return lost, perhaps, after.goes_through, after.is_endless and not before.is_endless


def _losses_of(estate: EstateView) -> dict[str, FlowLoss]:
    """All flows by their ids; of an id that comes twice the first is the one that others call, and none is left out."""
    found: dict[str, FlowLoss] = {}
    for place, flow in enumerate(estate.flows):
        found[flow.id if flow.id not in found else f"{flow.id}\n{place}"] = FlowLoss(flow)
    return found


def spread_loss(estate: EstateView, row: ThingRow, name: str) -> list[FlowImpact]:
    """What follows when a thing is gone."""
    losses = _losses_of(estate)
    for loss in losses.values():
        _begin(loss, row, name)
    _follow_calls(estate, losses)
    _starve(estate, losses)
    return [loss.result() for loss in losses.values() if loss.touched or loss.dead or loss.is_gone or loss.notes]


def needing_flows(estate: EstateView, row: ThingRow, name: str) -> list[FlowImpact]:
    """The flows that need a thing by themselves, whatever else they call: steps of theirs use it, or wait for the flow that
    it is. What breaks behind them is no matter of a thing that is slower or dearer."""
    losses = _losses_of(estate)
    for loss in losses.values():
        _begin(loss, row, name)
    for call in calls_of(Estate(flows=tuple(estate.flows))) if row.sort == "flow" else ():
        called = losses.get(call.target)
        if called is not None and called.is_gone and call.how != "fault":
            _wait_for(losses[call.source], call, called)
    found = [loss for loss in losses.values() if loss.touched or loss.is_gone]
    for loss in found:
        loss.tell()
    return [loss.result() for loss in found]


def _wait_for(caller: FlowLoss, call: Call, called: FlowLoss) -> None:
    """The steps that call a flow and wait for it."""
    for key in call.steps:
        step = caller.graph.steps.get(key)
        if step is not None and key in caller.running and step.awaits is not False:
            caller.touches(step, f"calls ‘{called.flow.title}’", "certain")


def _begin(loss: FlowLoss, row: ThingRow, name: str) -> None:
    """What a flow loses by itself."""
    flow = loss.flow
    loss.is_gone = row.sort == "flow" and pattern_fits(name, flow.id, flow.name)
    for need in row.needs(flow, name) if not loss.is_gone else ():
        if isinstance(need.part, Trigger) or need.part.id in loss.running:
            loss.needs(need)
    if row.sort == "person" and any(pattern_fits(name, owner) for owner in flow.owners):
        others = [owner for owner in flow.owners if not pattern_fits(name, owner)]
        said = f"{', '.join(others)} alone answer for it" if others else "nobody answers for it any more"
        loss.notes[said] = None


def _follow_calls(estate: EstateView, losses: dict[str, FlowLoss]) -> None:
    """From flows that break to the steps that call them, until nothing changes."""
    calls: dict[str, list[Call]] = {}
    for call in calls_of(Estate(flows=tuple(estate.flows))):
        calls.setdefault(call.target, []).append(call)
    work = [key for key, loss in losses.items() if loss.touched or loss.dead or loss.is_gone]
    for key in work:
        losses[key].tell()
    while work:
        key = work.pop()
        broken = losses[key]
        for call in calls.get(key, ()) if broken.ending in BROKEN else ():
            caller = losses[call.source]
            if call.how == "fault":
                caller.notes[f"its failures are no longer taken by {quote_name(broken.flow.title)}"] = None
            elif not caller.is_gone and _fail_calls(caller, call, broken):
                caller.tell()
                work.append(call.source)


def _fail_calls(caller: FlowLoss, call: Call, broken: FlowLoss) -> bool:
    """Lets the steps fail that call a broken flow; whether any is new."""
    odds: Odds = "certain" if broken.ending in ("gone", "stops") and broken.odds == "certain" else "perhaps"
    new = False
    for key in call.steps:
        step = caller.graph.steps.get(key)
        if step is None or key not in caller.running or (step.awaits is False and not broken.is_gone):
            continue
        new |= caller.touches(step, f"calls ‘{broken.flow.title}’, which {_ending_words(broken)}", odds)
    if new and not caller.through:
        caller.through = broken.flow.title
    return new


def _ending_words(loss: FlowLoss) -> str:
    return "is gone" if loss.is_gone else loss.ending


def _fills_no_more(loss: FlowLoss, call: Call) -> bool:
    """Whether none of the steps by which a flow fills a store runs any more."""
    never = loss.ending == "never starts"
    return never or (bool(loss.lost) and loss.running.intersection(call.steps).issubset(loss.lost))


def _starve(estate: EstateView, losses: dict[str, FlowLoss]) -> None:
    """Tells flows that read a store which no flow fills any more."""
    fillers: dict[str, list[Call]] = {}
    for call in stores_of(Estate(flows=tuple(estate.flows))):
        fillers.setdefault(f"{call.target}\n{call.name.casefold()}", []).append(call)
    for rows in fillers.values():
        if not any(_fills_no_more(losses[call.source], call) for call in rows):
            continue
        rows = [call for call in rows if not losses[call.source].running.isdisjoint(call.steps)]  # others never did
        if rows and all(_fills_no_more(losses[call.source], call) for call in rows):
            reader = losses[rows[0].target]
            reader.notes[
                f"reads ‘{rows[0].name}’, which {quote_name(losses[rows[0].source].flow.title)} fills no more"
            ] = None
            reader.through = reader.through or losses[rows[0].source].flow.title

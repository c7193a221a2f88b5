# The estate as one drawing: flows are cards, their calls are links, owners or connections or environments are frames. It is
# a flow of flows, so that the layout and every writer of maps draw it as they draw any flow.
"""The map of an estate."""

from __future__ import annotations

from typing import Literal

from msgspec import structs

from zeitbuch.core.assumptions.money import money_words
from zeitbuch.core.estimate.estate import keys_of
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.graph.activities import activities_of
from zeitbuch.core.graph.flow_calls import HOW_WORDS, Call, calls_of, service_name, shared_of, stores_of
from zeitbuch.core.graph.pattern_class import pattern_of
from zeitbuch.core.graph.topology import Graph, ai_steps
from zeitbuch.core.model.records import Effect, Estate, Flow, Link, Step
from zeitbuch.core.model.words import count_words, join_words, triggers_words
from zeitbuch.core.passes.steps_that_run import acting_flow

from .cards import Showing
from .views import View

By = Literal["owner", "connection", "environment", "none"]
_RANK: tuple[Effect, ...] = ("none", "read", "write", "send", "spend", "delete")
_MANY = 4  # so many callers of one flow are said in words, not drawn


def _group_of(flow: Flow, by: By) -> str:
    if by == "owner":
        return join_words(flow.owners) or "no owner named"
    if by == "environment":
        return flow.environment or "no environment named"
    if by == "connection":
        used: dict[str, int] = {}
        for step in flow.steps:
            if step.connection:
                used[step.connection] = used.get(step.connection, 0) + 1
        if not used:
            return "no connection"
        return service_name(flow, max(used, key=lambda k: used[k]))
    return ""


def _strongest_effect(flow: Flow) -> Effect:
    """The strongest effect of the steps of a flow."""
    return max((s.effect for s in flow.steps), key=_RANK.index, default="none")


def _flow_card(flow: Flow, acting: Flow, scope: str | None) -> Step:
    """The card of a flow: it has the effect of what acts in it as it stands."""
    pattern = pattern_of(flow)
    return Step(
        id=f"flow {flow.id}",
        kind="other" if not flow.steps else "shape" if pattern == "plain" else "model",
        name=flow.title,
        operation=flow.id,
        effect=_strongest_effect(acting),
        scope=scope,
        enabled=flow.state != "off",
    )


def estate_view(
    estate: Estate, by: By, stores: bool = False, result: EstateEstimate | None = None
) -> tuple[View, Showing]:
    """The estate as a view of cards, and what the cards show. ``stores`` draws what one flow writes and another reads;
    ``result`` puts the cost of a month on the cards."""
    # Two flows of one id are two cards: nothing that was read is lost.
    keys = keys_of(estate.flows)
    estate = Estate(flows=tuple(structs.replace(f, id=k) for f, k in zip(estate.flows, keys, strict=True)))
    steps: list[Step] = []
    remarks: dict[str, list[str]] = {}
    scopes: dict[str, str] = {}
    # What is switched off, or what no run comes to, neither calls nor fills anything: it is told, and not drawn.
    acting = Estate(flows=tuple([acting_flow(flow) for flow in estate.flows]))
    _flow_cards(estate, acting, by, scopes, steps, remarks)
    ids = {s.id: s for s in steps}
    calls = calls_of(acting) + (stores_of(acting) if stores else [])
    titles = {f.id: f.title for f in estate.flows}
    links = _call_links(calls, ids, remarks, steps, titles)
    _tell_idle_calls(estate, calls, titles, remarks)
    for shared in shared_of(estate):
        for user in shared.flows:
            others = len(shared.flows) - 1
            remarks[f"flow {user}"].append(f"shares ‘{shared.name}’ with {count_words(others, 'flow')}")
    title = f"Estate of {count_words(len(estate.flows), 'flow')}"
    graph = Graph(Flow(id="estate", name=title, format="estate", steps=tuple(steps), links=tuple(links)))
    graph.__dict__["numbers"] = {}
    between = count_words(sum(c.how != "store" for c in calls), "call")
    note = f"{between} between them" + (f", framed by {by}" if by != "none" else "")
    showing = Showing("names", {k: tuple(v) for k, v in remarks.items()}, tab=300.0)
    if result is not None:
        showing = Showing(
            "names",
            showing.remarks,
            meters=_cost_bars(result, keys),
            tab=300.0,
            scale=f"model cost in {result.month}, longest bar the highest",
        )
    return View(graph, showing.remarks, note=note), showing


def _tell_idle_calls(estate: Estate, calls: list[Call], titles: dict[str, str], remarks: dict[str, list[str]]) -> None:
    """Which calls do not happen as the flows stand."""
    made = {(call.source, call.target, call.how, call.name) for call in calls}
    for call in calls_of(estate):
        if (call.source, call.target, call.how, call.name) not in made:
            name = titles.get(call.target, call.name)
            remarks[f"flow {call.source}"].append(f"{HOW_WORDS[call.how]} ‘{name}’: not as it stands")


def _flow_cards(
    estate: Estate, acting: Estate, by: By, scopes: dict[str, str], steps: list[Step], remarks: dict[str, list[str]]
) -> None:
    for flow, running in zip(estate.flows, acting.flows, strict=True):
        name = _group_of(flow, by)
        if name and name not in scopes:
            scopes[name] = f"group {len(scopes)}"
            steps.append(Step(id=scopes[name], kind="group", name=name))
        steps.append(_flow_card(flow, running, scopes.get(name)))
        ai = len(ai_steps(flow))
        remarks[f"flow {flow.id}"] = [
            triggers_words(flow),
            count_words(len(activities_of(flow)), "activity") + (f", {ai} with AI, {pattern_of(flow)}" if ai else ""),
        ]


def _call_links(
    calls: list[Call], ids: dict[str, Step], remarks: dict[str, list[str]], steps: list[Step], titles: dict[str, str]
) -> list[Link]:
    handled: dict[str, int] = {}
    for call in calls:
        if call.how == "fault":
            handled[call.target] = handled.get(call.target, 0) + 1
    links: list[Link] = []
    for call in calls:
        source, target = f"flow {call.source}", f"flow {call.target}"
        if call.how == "fault" and handled[call.target] >= _MANY:
            continue
        if not call.target:
            target = f"unread {call.name}"
            if target not in ids:
                ids[target] = Step(id=target, kind="other", name=call.name, operation="a flow that was not read")
                steps.append(ids[target])
                remarks[target] = ["not among the flows read"]
        _call_link(ids, titles, call, source, target, links)
    for target, count in handled.items():
        if count >= _MANY:
            remarks[f"flow {target}"].append(f"takes the faults of {count_words(count, 'flow')}")
    return links


def _call_link(
    ids: dict[str, Step], titles: dict[str, str], call: Call, source: str, target: str, links: list[Link]
) -> None:
    words = {
        "subflow": "",
        "tool": "as a tool",
        "webhook": "web request",
        "fault": "",
        "store": f"through {call.name}",
    }[call.how]
    apart = ids[source].scope != ids[target].scope
    if apart:
        # Between frames the link says which flows it means.
        words = f"{titles[call.source]} to {titles.get(call.target, call.name)}" + (f", {words}" if words else "")
    links.append(Link(source=source, target=target, role="error" if call.how == "fault" else "next", label=words))


def _cost_bars(result: EstateEstimate, keys: list[str]) -> dict[str, tuple[str, float]]:
    most = max((float(bill.amount) for f in result.flows if (bill := f.bill_month) is not None), default=0.0)
    found: dict[str, tuple[str, float]] = {}
    for flow, key in zip(result.flows, keys, strict=True):
        bill = flow.bill_month
        if bill is None:
            found[f"flow {key}"] = ("cost per month: volume not known", 0.0)
        else:
            words = f"{money_words(bill)} {result.currency} per month"
            found[f"flow {key}"] = (words, float(bill.amount) / most if most else 0.0)
    return found

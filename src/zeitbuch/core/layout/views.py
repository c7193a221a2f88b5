# Parts of a flow for a map: scopes folded to one card, the surroundings of a step, the steps that use AI, the way of one
# value. A view is a smaller flow; what it leaves out is counted on the cards beside the gap, never dropped in silence.
"""Views of a flow: folded, focused, filtered."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct, structs

from zeitbuch.core.graph.topology import Edge, Graph, Level, ai_steps
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Link, Step
from zeitbuch.core.model.words import count_words, triggers_words
from zeitbuch.core.passes.reachability import Reachability


class View(Struct):
    """A part of a flow, with numbers and names of the whole, and what is to be said on cards beside their own text."""

    graph: Graph
    remarks: dict[str, tuple[str, ...]] = {}
    marked: frozenset[str] = frozenset()
    note: str = ""  # what the view leaves out, for the subtitle

    @property
    def facts(self) -> str:
        """The line below the title."""
        flow = self.graph.flow
        if flow.format == "estate":
            return self.note
        facts = [f"trigger: {triggers_words(flow)}", count_words(sum(s.kind != "note" for s in flow.steps), "step")]
        if flow.state != "unknown":
            facts.append(f"switched {flow.state}" if flow.state in ("on", "off") else flow.state)
        return " · ".join([*facts, self.note] if self.note else facts)


def whole_flow(graph: Graph) -> View:
    """The flow as it is."""
    return View(graph)


def _reduced_view(
    view: View, steps: Iterable[Step], links: Iterable[Link], remarks: dict[str, list[str]], note: str
) -> View:
    old = view.graph
    flow = structs.replace(old.flow, steps=tuple(steps), links=tuple(links))
    graph = Graph(flow)
    # Numbers and names stay those of the whole flow, so that a part can be found in it again.
    graph.__dict__["numbers"] = old.numbers
    graph.__dict__["names"] = old.names
    merged = {k: (*view.remarks.get(k, ()), *remarks.get(k, ())) for k in {*view.remarks, *remarks}}
    return View(graph, merged, view.marked, ", ".join(n for n in (view.note, note) if n))


def scopes_below(graph: Graph, depth: int) -> list[str]:
    """Scopes that stand at least ``depth`` scopes deep (0: all)."""
    return [s for s in graph.levels if s is not None and len(graph.scope_path(s)) - 1 >= depth]


def fold_scopes(view: View, scopes: Iterable[str]) -> View:
    """The view with scopes as single cards that say how much they hold."""
    graph = view.graph
    shut = {s for s in scopes if s in graph.levels}
    gone = _steps_inside(graph, shut)
    if not gone:
        return view
    remarks = _fold_remarks(shut, gone, graph)
    steps = [s for s in graph.flow.steps if s.id not in gone]

    def seen(id: str) -> str:
        """The step itself, or the folded scope it stands in."""
        return next((p for p in graph.scope_path(id) if p in shut), None) or id if id in gone else id

    links: dict[tuple[str, str, str, str], Link] = {}
    for link in graph.flow.links:
        if link.role == "attach":
            if link.source not in gone:
                links.setdefault((link.source, link.target, "attach", ""), link)
            continue
        a, b = seen(link.source), seen(link.target)
        if a == b and (link.source in gone or link.target in gone):
            continue
        if a in shut and link.target in gone:
            continue
        moved = link if (a, b) == (link.source, link.target) else structs.replace(link, source=a, target=b)
        links.setdefault((a, b, link.role, link.label), moved)
    return _reduced_view(view, steps, links.values(), remarks, "")


def _steps_inside(graph: Graph, shut: set[str]) -> set[str]:
    return {step.id for scope in shut for step in graph.contents.get(scope, ())}


def _fold_remarks(shut: set[str], gone: set[str], graph: Graph) -> dict[str, list[str]]:
    remarks: dict[str, list[str]] = {}
    using = {s.id for s in ai_steps(graph.flow)}
    for scope in shut - gone:
        inside = [step for step in graph.contents.get(scope, ()) if step.kind != "note"]
        ai = sum(s.id in using for s in inside)
        remarks[scope] = [f"folded: {count_words(len(inside), 'step')}" + (f", {ai} with AI" if ai else "")]
    return remarks


def only_steps(view: View, keep: Iterable[str], note: str) -> View:
    """The view with only these steps, the scopes around them and their helpers; ways over what is left out stay as links
    that say how many steps lie between."""
    graph = view.graph
    wanted = {graph.card_of(k) for k in keep if k in graph.steps}
    shown = wanted | {p for k in wanted for p in graph.scope_path(k) if p is not None}
    steps = [s for s in graph.flow.steps if graph.card_of(s.id) in shown]
    links: dict[tuple[str, str, str, str], Link] = {}
    remarks: dict[str, list[str]] = {}
    _helper_links(graph, shown, links)
    for scope, level in graph.levels.items():
        if scope is not None and scope not in shown:
            continue
        for target, names in level.labels.items():
            if target in shown:
                for link in names:
                    links[link.source, target, link.role, link.label] = link
        _link_shown(level, shown, scope, graph, links, remarks)
    hidden = sum(s.kind != "note" for s in graph.flow.steps) - sum(s.kind != "note" for s in steps)
    words = f"{note}; {count_words(hidden, 'step')} not shown" if hidden else note
    return _reduced_view(view, steps, links.values(), remarks, words)


def _helper_links(graph: Graph, shown: set[str], links: dict[tuple[str, str, str, str], Link]) -> None:
    for link in graph.flow.links:
        if link.role == "attach" and graph.card_of(link.target) in shown:
            links[link.source, link.target, "attach", ""] = link


def _link_shown(
    level: Level,
    shown: set[str],
    scope: str | None,
    graph: Graph,
    links: dict[tuple[str, str, str, str], Link],
    remarks: dict[str, list[str]],
) -> None:
    """Links between the steps of a level that are shown, and remarks on those that are not."""
    out: dict[str, list[Edge]] = {}
    for e in level.edges:
        out.setdefault(e.source, []).append(e)
    visible = {s.id for s in level.steps if s.id in shown} | (set(graph.triggers) if scope is None else set())
    reached: set[str] = set()
    for a in [*(graph.triggers if scope is None else ()), *[s.id for s in level.steps]]:
        if a not in visible:
            continue
        lost: set[str] = set()
        for e in out.get(a, ()):
            if e.target in visible:
                links.setdefault((a, e.target, e.link.role, e.link.label), _move_link(e.link, a, e.target))
                continue
            ends, between = _hidden_targets(e.target, out, visible)
            reached |= between
            if not ends:
                lost |= between
            for b, count in ends.items():
                label = (
                    f"{e.link.label}: {count_words(count, 'step')} between"
                    if e.link.label
                    else f"{count_words(count, 'step')} between"
                )
                links.setdefault((a, b, e.link.role, label), _move_link(e.link, a, b, label))
        if lost:
            remarks.setdefault(a, []).append(f"then {count_words(len(lost), 'step')} not shown")
    _note_hidden_before(level.steps, out, visible, reached, remarks)


def _move_link(link: Link, source: str, target: str, label: str | None = None) -> Link:
    if (link.source, link.target) == (source, target) and label is None:
        return link
    return structs.replace(link, source=source, target=target, label=link.label if label is None else label)


def _hidden_targets(first: str, out: dict[str, list[Edge]], visible: set[str]) -> tuple[dict[str, int], set[str]]:
    """What is shown behind a step that is not, with the least number of steps between; and all that is passed."""
    ends: dict[str, int] = {}
    between = {first}
    work = [(first, 1)]
    while work:
        at, count = work.pop(0)
        for e in out.get(at, ()):
            if e.target in visible:
                ends.setdefault(e.target, count)
            elif e.target not in between:
                between.add(e.target)
                work.append((e.target, count + 1))
    return ends, between


def _note_hidden_before(
    steps: list[Step], out: dict[str, list[Edge]], visible: set[str], reached: set[str], remarks: dict[str, list[str]]
) -> None:
    """Says on what is shown how many steps lie before it that nothing shown leads to."""
    before: dict[str, set[str]] = {}
    for step in steps:
        if step.id in visible or step.id in reached or step.kind == "note":
            continue
        for b in _hidden_targets(step.id, out, visible)[0]:
            before.setdefault(b, set()).add(step.id)
    for b, hidden in before.items():
        remarks.setdefault(b, []).insert(0, f"after {count_words(len(hidden), 'step')} not shown")


def around_step(view: View, step_id: str, up: int, down: int) -> View:
    """A step with what leads to it and what it leads to, so many links far; its scope's contents when it is one."""
    ways = Reachability(view.graph)
    graph = view.graph
    centre = graph.card_of(step_id)
    keep = {centre} | {s.id for s in graph.steps.values() if centre in graph.scope_path(s.id)}
    for near, far in ((ways.previous_steps, up), (ways.next_steps, down)):
        edge = {centre}
        for _ in range(far):
            edge = {o for e in edge for o in near(e)} - keep
            keep |= edge
    found = only_steps(view, keep, f"around ‘{graph.names[step_id]}’")
    found.marked = frozenset({*view.marked, centre})
    return found


def with_ai(view: View) -> View:
    """The steps that use AI, with what leads to each and what it leads to directly."""
    graph = view.graph
    ways = Reachability(graph)
    ai = {graph.card_of(s.id) for s in ai_steps(graph.flow)}
    if not ai:
        raise fail(
            "view-empty", f"expected steps that use AI in '{graph.flow.title}', found none", "draw the map without --ai"
        )
    keep = ai | {o for a in ai for o in (*ways.next_steps(a), *ways.previous_steps(a))}
    found = only_steps(view, keep, "steps with AI and what stands beside them")
    found.marked = frozenset({*view.marked, *ai})
    return found


def follow_value(view: View, source: str, path: str = "") -> View:
    """The way of one value: where it arises and every step that uses it, or what was made of it."""
    graph = view.graph
    ways = Reachability(graph)
    reads = ways.follow_lineage(source, path)
    name = f"{path} of ‘{graph.names[source]}’" if path else f"what ‘{graph.names[source]}’ gives"
    if not reads:
        raise fail(
            "view-empty", f"expected steps that use {name}, found none", "`zeitbuch explain` says what a step hands on"
        )
    remarks: dict[str, tuple[str, ...]] = dict(view.remarks)
    for read in reads:
        host = graph.card_of(read.reader)
        own = f"{graph.names[read.reader]}: " if host != read.reader else ""
        said = (*remarks.get(host, ()), own + ways.read_words(read))
        remarks[host] = tuple(dict.fromkeys(said))
    start = graph.card_of(source)
    remarks[start] = (*remarks.get(start, ()), "the value arises here")
    keep = {start, *[graph.card_of(r.reader) for r in reads]}
    found = only_steps(View(graph, remarks, view.marked, view.note), keep, f"the way of {name}")
    found.marked = frozenset({*view.marked, start})
    return found

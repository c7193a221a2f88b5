# What each rule of a dialect does on real documents: the reader itself is watched while it reads, and then every path is asked for in
# the records that it met. What is said of a rule is counted, not guessed.
"""Trying the rules of a dialect on documents."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from msgspec import Struct

from zeitbuch.core.model.records import Flow, Origin, Ref, Step, Trigger
from zeitbuch.readers.input.limits import Limits, count_values

from .dialect_checks import annotations_of
from .draft import Draft
from .flows import DialectReader
from .link_lists import record_of
from .near_misses import Key, near_key, near_query
from .paths import as_text, make_getter
from .reshape import Reshaper
from .rules import KEY, PLACE, Dialect, Fields, KindRule
from .step_plan import Plan, Plans

_OWN = ("", ".", KEY, PLACE)
_PATHS = ("Paths", "DottedPath", "list[DottedPath]")


class RuleTrial(NamedTuple):
    """One key of a dialect: how many of the records it is for hold something there, and what is to be said of it."""

    rule: str
    path: str
    hits: int
    records: int
    remark: str = ""


class Untouched(NamedTuple):
    """A place of the export that no rule touches (lists as ``*``), how many values hang on it, and one of them where they are plain."""

    place: str
    values: int
    example: str = ""


class DialectTrial(NamedTuple):
    """What the rules of a dialect did: key by key, what points to a mistake in it, and what no rule touched, the largest first."""

    dialect: str
    documents: int
    flows: int
    rules: list[RuleTrial]
    suspicions: list[str]
    untouched: list[Untouched]
    read: list[Flow]


class _Watch:
    """The records that the reader of a dialect met."""

    def __init__(self, dialect: Dialect, limits: Limits) -> None:
        self.reader = DialectReader(dialect, limits=limits)
        self.flows: list[dict[str, Any]] = []
        self.steps: list[tuple[dict[str, Any], KindRule]] = []
        self.triggers: list[tuple[dict[str, Any], KindRule]] = []
        self.apart: list[tuple[dict[str, Any], KindRule]] = []  # triggers that stand apart from the steps
        self.read: list[Flow] = []
        self.unusable: Counter[str] = Counter()
        self.ends: Counter[str] = Counter()
        self._watch_reader()

    def _watch_reader(self) -> None:
        reader, steps = self.reader, self.reader.steps
        read_flow, read_step, read_trigger = reader.shape.read_flow, steps.read_step, steps.read_trigger

        def flow(raw: dict[str, Any], draft: Draft) -> None:
            self.flows.append(raw)
            read_flow(raw, draft)

        def step(raw: dict[str, Any], pointer: str, draft: Draft, plan: Any, scope: str | None) -> Step:
            self.steps.append((raw, plan.rule))
            return read_step(raw, pointer, draft, plan, scope)

        def trigger(raw: dict[str, Any], pointer: str, draft: Draft, plan: Any) -> Trigger:
            self.triggers.append((raw, plan.rule))
            return read_trigger(raw, pointer, draft, plan)

        reader.shape.read_flow = flow  # type: ignore[method-assign]
        steps.read_step, steps.read_trigger = step, trigger  # type: ignore[method-assign]
        if reader.shape.triggers.rule is not None:
            self._watch_triggers_apart(reader.shape.triggers.plans)

    def _watch_triggers_apart(self, plans: Plans) -> None:
        plan_of = plans.plan_of

        def watched(operation: str, raw: dict[str, Any]) -> Plan:
            plan = plan_of(operation, raw)
            self.apart.append((raw, plan.rule))
            return plan

        plans.plan_of = watched  # type: ignore[method-assign]

    def read_document(self, name: str, document: Any) -> None:
        for flow, problems in self.reader.flows(document, Origin(name), count_values(document)):
            self.read.append(flow)
            self.unusable.update(
                one.message.partition(", found ")[0] for one in problems if one.code == "value-unusable"
            )
            self.ends["dangling"] += sum(one.code == "link-end" for one in problems)
            self.ends["links"] += len(flow.links)


def try_dialect(dialect: Dialect, documents: Iterable[tuple[str, Any]], limits: Limits) -> DialectTrial:
    """What the rules of a dialect do on these documents, by name; those that it does not recognise are passed over. They are changed
    by it."""
    watch = _Watch(dialect, limits)
    listed = list(documents)
    fitting = [one for one in listed if watch.reader.recogniser.fits_document(one[1])]
    rules = list(_signature_rows(dialect, [document for _, document in listed]))
    for name, document in fitting:
        watch.read_document(name, document)
    documents_read = [document for _, document in fitting]
    rules += _shape_rows(watch.reader.reshaper)
    flow_at = watch.reader.flows_at
    found = sum(flow_at.selects_any(document) for document in documents_read)
    rules.append(
        RuleTrial(
            "flow.at", flow_at.text, found, len(fitting), near_query(flow_at, documents_read) if not found else ""
        )
    )
    rules += _rows_of_table("flow", dialect.flow, watch.flows)
    rules += _step_rows(dialect, watch)
    rules += _link_rows(watch)
    rules += (*_place_rows(dialect, watch), *_outlet_rows(dialect, watch), *_kind_rows(dialect, watch))
    return DialectTrial(
        dialect.name,
        len(fitting),
        len(watch.read),
        rules,
        list(_suspicions(dialect, watch, rules)),
        untouched_places(watch.read),
        watch.read,
    )


def _signature_rows(dialect: Dialect, documents: list[Any]) -> Iterator[RuleTrial]:
    from .query import Query

    for text in dialect.signature.all:
        query = Query(text)
        hits = sum(query.selects_any(document) for document in documents)
        yield RuleTrial("signature.all", text, hits, len(documents), near_query(query, documents) if not hits else "")


def _shape_rows(reshaper: Reshaper | None) -> Iterator[RuleTrial]:
    for key, change in reshaper.changes.items() if reshaper is not None else ():
        hits = reshaper.hits[key] if reshaper is not None else 0
        yield RuleTrial(key, change.at.text, hits, hits, "" if hits else "nothing is there")


def _paths_in(table: Struct) -> Iterator[tuple[str, str]]:
    """(key, dotted path) of the paths of a table, each of several by itself."""
    annotations = annotations_of(type(table))
    for name, key in zip(table.__struct_fields__, table.__struct_encode_fields__, strict=True):
        value = getattr(table, name)
        if key == "prompts":
            yield from (("prompts.speaker", prompt.speaker) for prompt in value if prompt.speaker)
            value = [prompt.path for prompt in value if isinstance(prompt.path, str)]
        elif key == "cases":
            value = value.at if value is not None else ""
        elif annotations[name] not in _PATHS or key in ("at", "noise"):
            continue
        yield from ((key, path) for path in (value if isinstance(value, list) else [value]) if path not in _OWN)


def _rows_of_table(title: str, table: Struct, records: list[dict[str, Any]]) -> Iterator[RuleTrial]:
    for key, path in _paths_in(table):
        get = make_getter(path)
        hits = sum(get(record) is not None for record in records)
        yield RuleTrial(
            f"{title}.{key}", path, hits, len(records), near_key(path, records) if records and not hits else ""
        )


def _step_rows(dialect: Dialect, watch: _Watch) -> Iterator[RuleTrial]:
    query = watch.reader.shape.query
    hits = sum(query.selects_any(raw) for raw in watch.flows)
    yield RuleTrial("step.at", query.text, hits, len(watch.flows), near_query(query, watch.flows) if not hits else "")
    yield from _rows_of_table("step", dialect.step, [raw for raw, _ in (*watch.steps, *watch.triggers)])


def _link_rows(watch: _Watch) -> Iterator[RuleTrial]:
    links = watch.reader.shape.links
    if links is None:
        return
    for place, listed in enumerate(links.lists):
        title = f"link[{place}]" if len(links.lists) > 1 else "link"
        records = [
            record
            for raw in watch.flows
            for _, item in listed.at.find_all(raw)
            if (record := record_of(item)) is not None
        ]
        hits = sum(listed.at.selects_any(raw) for raw in watch.flows)
        yield RuleTrial(
            f"{title}.at",
            listed.at.text,
            hits,
            len(watch.flows),
            near_query(listed.at, watch.flows) if not hits else "",
        )
        yield from _rows_of_table(title, listed.rule, records)
    for table in links.adjacencies:
        hits = sum(table.at.selects_any(raw) for raw in watch.flows)
        yield RuleTrial(
            "adjacency.at", table.at.text, hits, len(watch.flows), near_query(table.at, watch.flows) if not hits else ""
        )
    steps = [raw for raw, _ in (*watch.steps, *watch.triggers)]
    for pointer in links.pointers:
        hits = sum(pointer.at(raw) is not None for raw in steps)
        yield RuleTrial(
            "pointer.at", pointer.rule.at, hits, len(steps), near_key(pointer.rule.at, steps) if not hits else ""
        )
        listened = pointer.rule.meets if isinstance(pointer.rule.meets, list) else [pointer.rule.meets]
        for path, get in zip(filter(None, listened), pointer.meets, strict=True):
            met = sum(get(raw) is not None for raw in steps)
            yield RuleTrial("pointer.meets", path, met, len(steps), near_key(path, steps) if not met else "")


def _place_rows(dialect: Dialect, watch: _Watch) -> Iterator[RuleTrial]:
    """Paths to other steps or within triggers, which stand in tables of their own."""
    steps = [raw for raw, _ in watch.steps]
    places = [("holds", hold.at) for hold in dialect.inside]
    places += [("order", dialect.order.by)] if dialect.order is not None and dialect.order.by else []
    places += [("predecessors", dialect.predecessors.at)] if dialect.predecessors is not None else []
    for title, path in places:
        hits = sum(make_getter(path)(raw) is not None for raw in steps)
        yield RuleTrial(f"{title}.at", path, hits, len(steps), near_key(path, steps) if steps and not hits else "")
    if dialect.trigger is not None:
        query = watch.reader.shape.triggers.query
        hits = sum(query.selects_any(raw) for raw in watch.flows)
        yield RuleTrial(
            "trigger.at", query.text, hits, len(watch.flows), near_query(query, watch.flows) if not hits else ""
        )
        yield from _rows_of_table("trigger", dialect.trigger, [raw for raw, _ in watch.apart])


def _outlet_rows(dialect: Dialect, watch: _Watch) -> Iterator[RuleTrial]:
    links = watch.reader.shape.links
    known = links.known_outlets if links is not None else {}
    for rule in dialect.outlet:
        hits = sum(one is rule for one in known.values())
        yield RuleTrial("outlet.match", rule.match, hits, len(known), "" if hits else "no outlet fits it")


def _kind_rows(dialect: Dialect, watch: _Watch) -> Iterator[RuleTrial]:
    met = [*watch.steps, *watch.triggers, *watch.apart]
    for rule in dialect.kind:
        records = [raw for raw, used in met if used is rule]
        told = f"{rule.operation} has {rule.has}".strip() if rule.has else rule.operation
        title = f"kind '{told}'"
        yield RuleTrial(title, told, len(records), len(met), "" if records else "no operation fits it")
        if records:
            own = Fields(**{name: getattr(rule, name) for name in Fields.__struct_fields__})
            yield from _rows_of_table(title, own, records)


def _suspicions(dialect: Dialect, watch: _Watch, rules: list[RuleTrial]) -> Iterator[str]:
    """What points to a mistake in the dialect rather than in the exports."""
    if not watch.read:
        missing = [row.path for row in rules if row.rule == "signature.all" and not row.hits]
        yield "no document is recognised: " + (
            f"is `signature.all` right? nothing is at {', '.join(missing)}" if missing else "no flow is at `flow.at`"
        )
        return
    if not watch.steps:
        yield "no step was found: is `step.at` right?"
    blind = [row for row in rules if row.rule.endswith((".from", ".to")) and row.records and not row.hits]
    yield from (f"`{row.rule}` finds nothing in {row.records} links: {row.remark}" for row in blind)
    if not blind:
        yield from _suspected_ends(dialect, watch)
    if watch.steps and not watch.ends["links"] and not watch.ends["dangling"]:
        yield "no step leads to another: which table says how steps are linked (`link`, `adjacency`, `pointer`, `holds`, `predecessors`, `order`)?"
    yield from _suspected_ids(watch)
    yield from _suspected_placeholders(watch)
    for words, times in watch.unusable.most_common(5):
        yield f"{times} values could not be used: {words}"


def _suspected_ids(watch: _Watch) -> Iterator[str]:
    """Ids that most steps of one flow share."""
    names = {(number, step.id) for number, flow in enumerate(watch.read) for step in flow.steps}
    if len(watch.steps) > 2 * len(watch.flows) and len(names) <= max(len(watch.read), len(watch.steps) // 10):
        yield f"{len(watch.steps)} steps of {len(watch.read)} flows have {len(names)} different ids: is `step.id` right?"


def _suspected_placeholders(watch: _Watch) -> Iterator[str]:
    """Placeholders that mostly name nothing."""
    refs = [ref for flow in watch.read for step in flow.steps for ref in _refs_of(step) if ref.step is not None]
    ids = {step.id for flow in watch.read for step in flow.steps}
    ids |= {trigger.id for flow in watch.read for trigger in flow.triggers}
    lost = sum(ref.step not in ids for ref in refs)
    if lost and lost * 2 > len(refs):
        yield f"{lost} of {len(refs)} placeholders name no step: are `placeholders.prefix` and `separator` right?"


def _refs_of(step: Step) -> Iterator[Ref]:
    for binding in step.inputs:
        yield from binding.refs
    for prompt in step.model.prompts if step.model is not None else ():
        yield from prompt.refs


def _suspected_ends(dialect: Dialect, watch: _Watch) -> Iterator[str]:
    """Ends of links that are no step, and the key of the steps that they are."""
    links = watch.reader.shape.links
    if links is None or not watch.ends["dangling"]:
        return
    ends = [
        as_text(end(record))
        for listed in links.lists
        for raw in watch.flows
        for _, item in listed.at.find_all(raw)
        if (record := record_of(item)) is not None
        for end in listed.ends
    ]
    known = {as_text(watch.reader.steps.id(raw)) for raw, _ in (*watch.steps, *watch.triggers)}
    lost = [end for end in ends if end not in known]
    if not lost:
        return
    best = _key_of_ends(lost, [raw for raw, _ in (*watch.steps, *watch.triggers)])
    said = f"; {best.share:.0%} of them equal `{best.name}`" if best is not None else ""
    whole = (
        "no end of a link is the id of a step"
        if len(lost) == len(ends)
        else f"{len(lost)} of {len(ends)} ends of links are no id of a step"
    )
    yield f"{whole}: is `step.id` (`{dialect.step.id}`) right?{said}"


def _key_of_ends(ends: list[str], records: list[dict[str, Any]]) -> Key | None:
    shares: dict[str, float] = {}
    for name in {key for record in records for key in record}:
        values = {as_text(record.get(name)) for record in records} - {""}
        shares[name] = sum(end in values for end in ends) / len(ends)
    name, share = max(shares.items(), key=lambda item: (item[1], item[0]), default=("", 0.0))
    return Key(name, share) if share >= 0.5 else None


def untouched_places(flows: Iterable[Flow]) -> list[Untouched]:
    """What of flows no rule of their dialect touches, what most hangs on first."""
    counts: Counter[str] = Counter()
    examples: dict[str, str] = {}
    for flow in flows:
        parts = [("flow", flow.unread), ("around", flow.around)]
        parts += [("step", one.unread) for one in flow.steps]
        parts += [("step", one.unread) for one in flow.triggers]
        for prefix, rest in parts:
            for place, value in _places_of(prefix, rest):
                counts[place] += max(1, count_values(value))
                if place not in examples and (said := as_text(value)):
                    examples[place] = said
    ranked = sorted(counts.items(), key=lambda item: (-item[1], item[0]))
    return [Untouched(place, values, examples.get(place, "")) for place, values in ranked]


def _places_of(prefix: str, rest: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """The places of what was not read, two keys deep, with what stands there."""
    for key, value in rest.items():
        if isinstance(value, dict) and value:
            for inner, item in value.items():
                yield f"{prefix}: {key}.{inner}", item
        else:
            yield f"{prefix}: {key}" + (".*" if isinstance(value, list) else ""), value

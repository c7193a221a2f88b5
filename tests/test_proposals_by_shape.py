"""Proposals for builders whose structure was misread: elements of XML, jobs under the same names in every file, bare pairs, numbers that are
ids, texts under their ids, triggers of one type, loops with ways out, lists of models."""

from __future__ import annotations

from typing import Any

import pytest

from zeitbuch.core.model.records import Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.dialects.rules import Dialect, parse_dialect
from zeitbuch.readers.infer.propose import propose_from_documents
from zeitbuch.readers.infer.suggest import suggest_dialect
from zeitbuch.readers.input.decode import decode_document
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.plain_xml import plain_document

PROMPT = (
    "Answer the letter number {0} of the harbour office in two short sentences, be kind and promise nothing at all."
)


def proposed(documents: list[Any]) -> Dialect:
    made = suggest_dialect(documents, "b")
    assert made is not None
    return made.dialect


def procedure(at: int) -> Any:
    """XML: every element is a list, and the tasks stand in an element that holds nothing else."""
    wake = f'by="clock" at="{at} 7 * * 1-5"' if at % 2 else f'by="door" door="/claims/{at}"'
    inside = {
        "take": "<source>letters</source>", "draft": f"<engine>auk-mini-4</engine><say>{PROMPT.format(at)}</say>",
        "post": "<whom>office@ferry.example</whom><what>${t2.text}</what>", "file": "<shelf>claims</shelf><entry>${t2.text}</entry>",
    }  # fmt: skip
    tasks = "".join(
        f'<task ref="t{place}" kind="{kind}" caption="{kind.title()} number {place} of {at}">{held}</task>'
        for place, (kind, held) in enumerate(inside.items(), 1)
    )
    ways = "".join(f'<way out="t{place}" in="t{place + 1}"/>' for place in (1, 2, 3))
    text = f'<procedure ref="p{at}" caption="Claims {at}"><wakeup {wake}/><tasks>{tasks}</tasks><ways>{ways}</ways></procedure>'
    return plain_document(decode_document("p.xml", text.encode(), Limits())[0])


def test_elements_that_only_hold_the_steps_are_no_flows() -> None:
    """The element of the tasks was taken for the flow: no link, no name, and the first task as the trigger."""
    dialect = proposed([procedure(at) for at in range(10)])
    link, trigger = dialect.links[0], dialect.trigger
    assert (dialect.flow.at, dialect.step.at, dialect.flow.name) == ("$.procedure", "$.tasks[*].task[*]", "caption")
    assert (link.at, link.source, link.target) == ("$.ways[*].way[*]", "out", "in")
    assert trigger is not None and (trigger.at, trigger.operation) == ("$.wakeup[*]", "by")
    assert {rule.operation: rule.trigger for rule in dialect.kind if rule.trigger} == {
        "clock": "schedule",
        "door": "webhook",
    }


def jobs(at: int) -> dict[str, Any]:
    """The same jobs in every file, of which few keys are common to all."""
    held = {
        "fetch": {"uses": "rest/call", "args": {"href": f"https://tide.example/{at}", "verb": "GET"}, "again": {"max": 3, "delay": "20s"}},
        "think": {"uses": "mind/agent", "needs": ["fetch"], "args": {"brain": "auk-2-large", "charge": PROMPT.format(at), "tools": ["look"]}},
        "look": {"uses": "table/find", "args": {"table": "ships", "where": "id = ?"}},
        "store": {"uses": "table/put", "needs": ["think"], "only": "think.verdict != 'calm'", "args": {"table": "verdicts"}},
        "mail": {"uses": "mail/out", "needs": ["store"], "args": {"to": "quay@ferry.example", "body": "${think.verdict}"}},
    }  # fmt: skip
    if at % 3 == 0:
        held["fetch"]["only"] = "env.mode == 'live'"
    named: dict[str, Any] = {key: {"label": f"{key.title()} of berth {at}", **value} for key, value in held.items()}
    return {
        "label": f"Tide plan {at}",
        "on": [{"cron": f"{at} 5 * * *"} if at % 2 else {"every": "30m"}],
        "jobs": named,
    }


def test_jobs_under_the_same_names_everywhere_are_steps() -> None:
    """Nothing like steps was found."""
    dialect = proposed([jobs(at) for at in range(12)])
    step = dialect.step
    assert (step.at, step.id, step.operation, step.own_condition) == ("$.jobs[*]", "@key", "uses", "only")
    assert (step.retries, step.retry_wait) == ("again.max", "again.delay")
    assert dialect.predecessors is not None and dialect.predecessors.at == "needs"
    assert [(rule.at, rule.role) for rule in dialect.pointer] == [("args.tools", "attach")]


def tenant(number: int) -> dict[str, Any]:
    """Steps under numbers, types by codes, settings as bare pairs, instructions elsewhere by their ids, triggers of one code."""
    texts = {f"tx{place}": PROMPT.format(place) for place in range(4)}
    apps = []
    for at in range(4):
        start = ["cron", f"{at} 6 * * *"] if at % 2 else ["hook", f"/h/{number}{at}"]
        ask = [["m", "razorbill-1"], ["t", f"tx{at}"], ["c", 0.3]]
        call = [["u", f"https://x.example/{at}"], ["v", "GET"]]
        held = [
            (101, [start]),
            (205, ask),
            (310, call),
            (205, ask),
            (412, [["k", "quay@ferry.example"], ["b", "[[2.o]]"]]),
        ]
        nodes = {
            str(place): {"c": code, "d": f"Node {place} in {number}{at}", "p": pairs}
            for place, (code, pairs) in enumerate(held)
        }
        wires = [f"{place}>{place + 1}" for place in range(4)]
        apps.append({"app": f"a{number}{at}", "called": f"Desk {number}-{at}", "net": {"n": nodes, "w": wires}})
    return {"tenant": f"T{number}", "texts": texts, "apps": apps}


def test_bare_pairs_are_settings_and_a_number_at_the_end_of_a_text_is_no_step() -> None:
    """Captions were the types; then 'razorbill-1' led to step 1, and all triggers were schedules."""
    dialect = proposed([tenant(number) for number in range(3)])
    assert [(rule.at, rule.name, rule.value) for rule in dialect.pairs] == [("$.apps[*].net.n[*].p", "0", "1")]
    assert [rule.at for rule in dialect.split] == ["$.apps[*].net.w[*]"]
    assert [(rule.at, rule.refs) for rule in dialect.catalogue] == [("$.texts[*]", ["$.apps[*].net.n[*].p.t"])]
    step = dialect.step
    assert (step.operation, step.model, [one.path for one in step.prompts]) == ("c", "p.m", ["p.t"])
    rules = {(rule.operation, rule.has): rule.trigger for rule in dialect.kind if rule.trigger}
    assert rules == {("101", "p.cron"): "schedule", ("101", "p.hook"): "webhook"}


def test_triggers_of_one_type_that_only_some_settings_tell_are_asked_about() -> None:
    """All were schedules where half have a clock and one has nothing."""
    documents = [tenant(number) for number in range(3)]
    documents[0]["apps"][0]["net"]["n"]["0"]["p"] = []
    made = suggest_dialect(documents, "b")
    assert made is not None and not any(rule.has for rule in made.dialect.kind)
    claim = next(one for one in made.claims if one.part == "trigger kind")
    assert claim.is_asked


def blocks(at: int, back: bool, ways: tuple[str, str]) -> dict[str, Any]:
    """Blocks with ports, models by their aliases, and a loop with a way into its rounds."""
    kinds = ["clock.daily", "ai.ask", "http.call", "loop.items", "row.store", "mail.send"]
    given: list[dict[str, Any]] = [
        {"cron": f"{at} 6 * * *"}, {"mind": ["fast", "slow"][at % 2], "prompt": PROMPT.format(at)}, {"url": f"https://x.example/{at}", "verb": "GET"},
        {"over": "{{b2.rows}}"}, {"table": "arrivals", "row": "{{b3.row}}"}, {"to": "quay@ferry.example", "body": "{{b1.text}}"},
    ]  # fmt: skip
    held = [
        {"id": f"b{place}", "title": f"Block {place} of {at}", "type": kind, "set": settings}
        for place, (kind, settings) in enumerate(zip(kinds, given, strict=True))
    ]
    ends = [(0, 1, "out"), (1, 2, "out"), (2, 3, "out"), (3, 4, ways[0]), (3, 5, ways[1])]
    ends += [(4, 3, "out")] if back else []
    links = [{"from": f"b{first}", "port": port, "to": f"b{second}"} for first, second, port in ends]
    minds = [{"alias": "fast", "engine": "tern-lite-3"}, {"alias": "slow", "engine": "tern-large-3"}]
    return {
        "name": f"Letters {at}",
        "state": "ligado" if at % 3 else "desligado",
        "minds": minds,
        "blocks": held,
        "links": links,
    }


@pytest.mark.parametrize(("back", "ways", "body"), [(True, ("p1", "p2"), "p1"), (False, ("corpo", "fim"), "corpo")])
def test_the_way_into_the_rounds_of_a_loop_is_found(back: bool, ways: tuple[str, str], body: str) -> None:
    """What runs once for each item was counted once; models were listed as connections; the state was not known."""
    dialect = proposed([blocks(at, back, ways) for at in range(10)])
    assert [rule.match for rule in dialect.outlet if rule.role == "body"] == [body]
    assert dialect.flow.connections is None and dialect.step.connection == ""
    assert dialect.flow.states == {"ligado": "on", "desligado": "off"}


def test_ways_of_loops_that_nothing_tells_apart_lead_into_none() -> None:
    dialect = proposed([blocks(at, False, ("p1", "p2")) for at in range(10)])
    assert not any(rule.role == "body" for rule in dialect.outlet)


def dump(number: int) -> dict[str, Any]:
    """Flows, nodes and wires in one list, in any order."""
    records: list[dict[str, Any]] = []
    for at in range(3):
        flow = f"w{number}{at}"
        records.append({"rec": "workflow", "uid": flow, "title": f"Intake {number}-{at}", "armed": at != 1})
        held = [
            ("begin.timer", {"cron": f"{at} 8 * * *"}), ("llm.answer", {"model": "dunlin-3-mini", "user": PROMPT.format(at)}),
            ("gate.choose", {"rule": f"{flow}-1.label"}), ("mail.send", {"to": "office@ferry.example"}), ("row.write", {"table": "log"}),
        ]  # fmt: skip
        for place, (kind, given) in enumerate(held):
            node = {"rec": "node", "uid": f"{flow}-{place}", "wf": flow, "label": f"{kind} {place}", "op": kind}
            records.append({**node, "cfg": given})
        for first, second, when in ((0, 1, ""), (1, 2, ""), (2, 3, "yes"), (2, 4, "no")):
            wire = {"rec": "wire", "wf": flow, "src": f"{flow}-{first}", "dst": f"{flow}-{second}"}
            records.append({**wire, **({"when": when} if when else {})})
    return {"dump": 1, "records": records[::-1] if number % 2 else records}


def test_records_of_several_sorts_in_one_list_are_told_apart() -> None:
    """Every record was a step, 92 % sure, and its sort what it did."""
    dialect = proposed([dump(number) for number in range(4)])
    assert [(rule.at, rule.by) for rule in dialect.divide] == [("$.records", "rec")]
    assert [(rule.at, rule.into) for rule in dialect.gather] == [
        ("$.records.node[*]", "node"),
        ("$.records.wire[*]", "wire"),
    ]
    assert (dialect.flow.at, dialect.step.at) == ("$.records.workflow[*]", "$.node[*]")
    assert (dialect.links[0].at, dialect.links[0].source) == ("$.wire[*]", "src")


def test_steps_that_decide_between_two_others_are_no_links() -> None:
    steps = [
        {"sort": "pick" if place % 3 == 2 else "act", "id": f"s{place}", "name": f"Step {place}", "then": f"s{place + 1}", "else": f"s{place + 2}"}
        for place in range(14)
    ]  # fmt: skip
    for step in steps:
        if step["sort"] == "act":
            del step["else"]
    made = suggest_dialect([{"name": f"Flow {at}", "steps": steps} for at in range(3)], "b")
    assert made is None or made.dialect.divide == []


def states(at: int) -> dict[str, Any]:
    """States by name, the same in every file; one reads with a model, under a word that says it looks something up."""
    ask = {"lm": "knot-small-1", "ask": PROMPT.format(at), "heat": 0.1}
    held = {
        "waiting": ({"does": "inbox.watch", "with": {"box": "claims@ferry.example"}}, {"mail": "reading"}),
        "reading": ({"does": "lm.read", "with": ask}, {"ok": "weighing", "broken": "ending"}),
        "weighing": ({"does": "pick.path", "with": {"by": "reading.label"}}, {"refund": "paying", "other": "telling"}),
        "paying": ({"does": "bank.pay", "with": {"amount": "reading.sum"}}, {"ok": "telling"}),
        "telling": ({"does": "mail.out", "with": {"to": "reading.sender"}}, {}),
        "ending": ({"does": "mail.out", "with": {"to": "office@ferry.example"}}, {}),
    }
    named = {
        name: {"run": run, "face": f"{name.title()} {at}", **({"leads": leads} if leads else {})}
        for name, (run, leads) in held.items()
    }
    return {"face": f"Claims {at}", "first": "waiting", "live": at % 4 > 0, "states": named}


def test_states_are_steps_and_a_model_with_a_long_text_is_asked_about_whatever_the_word() -> None:
    """Nothing like steps was found; 'lm.read' looked something up, and no run called a model."""
    documents = [states(at) for at in range(10)]
    made = suggest_dialect(documents, "b")
    assert made is not None
    assert (made.dialect.step.at, made.dialect.step.operation, made.dialect.pointer[0].at) == (
        "$.states[*]",
        "run.does",
        "leads",
    )
    asked = {question.id: question for question in made.questions}
    assert [one.word for one in asked["kind lm.read"].answers][:2] == ["model", "read"]
    assert not any(rule.operation == "lm.read" for rule in made.dialect.kind)
    answered = suggest_dialect(documents, "b", {"kind lm.read": "model"})
    assert answered is not None and answered.dialect.step.model == "run.with.lm"


def pipelines(number: int) -> dict[str, Any]:
    """Steps that have neither id nor name, under a key that says what they do, some within others."""
    made = [
        {
            "pipeline": f"p{number}{at}", "when": {"cron": f"{at} 6 * * *"},
            "do": [
                {"fetch": {"from": "inbox"}}, {"ask": {"model": "merlin-4", "prompt": PROMPT.format(10 * number + at)}},
                {"choose": {"on": "answer", "refund": [{"mail": {"to": "money@ferry.example"}}], "other": [{"save": {"table": "letters"}}]}},
                {"mail": {"to": "desk@ferry.example", "text": "done"}},
            ],
        }
        for at in range(4)
    ]  # fmt: skip
    return {"pipelines": made}


def test_steps_without_id_or_name_go_by_their_place() -> None:
    """Nothing like steps was found, and a dialect could not say it: ids that repeat led every link to the first step."""
    documents = [pipelines(number) for number in range(3)]
    dialect = proposed(documents)
    step = dialect.step
    assert (step.at, step.id, step.name, step.operation) == ("$.do[*]", "@place", "operation", "operation")
    assert len(dialect.unwrap) == 3 and {hold.at for hold in dialect.inside} == {"refund", "other"}
    reader = DialectReader(dialect)
    (flow, problems), *_ = reader.flows(documents[0], Origin("p.yaml"), 20)
    assert problems == [] and [(one.id, one.operation, one.kind) for one in flow.steps] == [
        ("do.0", "fetch", "read"), ("do.1", "ask", "model"), ("do.2", "choose", "decide"), ("do.2.refund.0", "mail", "send"),
        ("do.2.other.0", "save", "write"), ("do.3", "mail", "send"),
    ]  # fmt: skip
    assert len({(link.source, link.target) for link in flow.links}) == 7
    origins = {one.id: one.origin.pointer for one in flow.steps if one.origin is not None}
    assert origins["do.2.other.0"] == "/pipelines/0/do/2/choose/other/0"
    assert flow.triggers[0].schedule is not None


def test_records_under_a_single_key_may_hold_plain_values_and_others_are_told() -> None:
    text = 'dialect = 1\nname = "b"\n[signature]\nall = ["$.do"]\n[[unwrap]]\nat = "$.do[*]"\ninto = "does"\n[flow]\n'
    text += '[step]\nat = "$.do[*]"\nid = "@place"\noperation = "does"\nsettings = "."\n[order]\n[[kind]]\noperation = "wait"\nkind = "wait"\nwait = "value"\n'
    document = {"id": "f", "do": [{"wait": "10 s"}, {"stop": None}, {"a": {}, "b": {}}, {"odd": {"does": 1}}]}
    (flow, problems), *_ = DialectReader(parse_dialect(text, "b.toml")).flows(document, Origin("b.json"), 6)
    assert [(one.operation, one.pause.seconds if one.pause else None) for one in flow.steps][:2] == [
        ("wait", 10.0),
        ("stop", None),
    ]
    assert [problem.origin.pointer for problem in problems if problem.origin] == ["/do/2", "/do/3"]


def desk(at: int) -> dict[str, Any]:
    """Cells and arrows under names, the same in every file; a memory that is called a chat; settings two levels deep; models by a key."""
    ops: list[tuple[str, dict[str, Any]]] = [
        ("on_mail", {"mailbox": "desk@ferry.example"}), ("ai_agent", {"mind": ["fast", "slow"][at % 2], "max_iterations": 5, "question": "{c0.text}"}),
        ("store_chat", {"last": 12}), ("tool_search", {"index": "timetable", "top": 4}), ("mail_reply", {"to": "desk@ferry.example", "text": "{c1.answer}"}),
    ]  # fmt: skip
    cells = {
        f"c{place}_{at:03d}x{place * 7}": {
            "data": {"op": op, "title": f"{op} of desk {at}", "config": given, "flags": {"off": place == 4 and at % 5 == 0}},
        }
        for place, (op, given) in enumerate(ops)
    }  # fmt: skip
    names = list(cells)
    ends = [(0, 1, "flow"), (2, 1, "memory"), (3, 1, "tool"), (1, 4, "fault")]
    arrows = {f"a{place}": {"a": names[a], "b": names[b], "kind": kind} for place, (a, b, kind) in enumerate(ends)}
    minds = {
        "fast": {"engine": "tern-lite-3", "orders": PROMPT.format(1)},
        "slow": {"engine": "tern-large-3", "orders": PROMPT.format(2)},
    }
    return {"title": f"Harbour desk {at}", "minds": minds, "cells": cells, "arrows": arrows}


def test_a_catalogue_is_proposed_once() -> None:
    """Of one with many entries two ways of looking each found it."""
    documents = [desk(at) for at in range(12)]
    for at, document in enumerate(documents):
        document["minds"] = {
            f"m{place}": {"engine": f"tern-{place}-3", "orders": PROMPT.format(place)} for place in range(6)
        }
        agent = next(cell for cell in document["cells"].values() if cell["data"]["op"] == "ai_agent")
        agent["data"]["config"]["mind"] = f"m{at % 6}"
    assert [rule.at for rule in proposed(documents).catalogue] == ["$.minds[*]"]


def test_an_arrow_is_no_trigger_a_helper_none_and_settings_may_lie_deeper() -> None:
    """The arrow of failures was the trigger, 98 % sure, its first end the first step; then a memory called a chat was."""
    made = suggest_dialect([desk(at) for at in range(12)], "b")
    assert made is not None
    dialect = made.dialect
    assert dialect.trigger is None and dialect.flow.first == ""
    assert {rule.match: rule.role for rule in dialect.outlet} == {
        "fault": "error",
        "memory": "attach",
        "tool": "attach",
    }
    assert [rule.operation for rule in dialect.kind if rule.trigger] == ["on_mail"]
    assert (dialect.step.settings, dialect.step.disabled) == ("data.config", "data.flags.off")
    assert [(rule.at, rule.refs) for rule in dialect.catalogue] == [("$.minds[*]", ["$.cells[*].data.config.mind"])]
    assert dialect.step.model == "data.config.mind.engine"


def claims_of(at: int) -> dict[str, Any]:
    """Steps under numbers; lengths of time with their unit; a condition that is an object; a loop that lists its body."""
    than = {"field": "2.amount", "op": ["gt", "lt"][at % 2], "than": 500}
    steps: dict[str, Any] = {
        "1": {"what": "poll_mailbox", "box": "claims@ferry.example", "each": {"n": 5, "unit": "min"}, "next": 2},
        "2": {"what": "for_each", "over": "1.rows", "body": [3], "next": 4},
        "3": {"what": "ask_model", "engine": "ruff-1-small", "text": PROMPT.format(at)},
        "4": {"what": "pause", "for": {"n": 2, "unit": "h"}, "next": 5},
        "5": {"what": "write_sheet", "sheet": "claims", "next": 6},
        "6": {"what": "send_mail", "to": "claims@ferry.example", "body_text": "2.text"},
    }
    for name in ("3", "5", "6") if at % 3 else ("4", "6"):
        steps[name]["when"] = than
    named = {key: {"caption": f"Step {key} of claim {at}", **value} for key, value in steps.items()}
    return {"label": f"Claims {at}", "active": at % 5 > 0, "steps": named}


def test_lengths_of_time_are_no_steps_and_conditions_may_be_objects() -> None:
    """'5 min' led to step 5 and '2 h' to step 2, 95 % sure; 500 was how long a step waits; what a loop lists ran once."""
    made = suggest_dialect([claims_of(at) for at in range(12)], "b")
    assert made is not None
    dialect = made.dialect
    assert [(rule.at, rule.role) for rule in dialect.pointer] == [("next", None), ("body", "body")]
    assert dialect.step.own_condition == "when"
    kinds = {rule.operation: rule for rule in dialect.kind}
    assert (kinds["poll_mailbox"].every, kinds["poll_mailbox"].unit) == ("each.n", "each.unit")
    assert kinds["pause"].wait == "for" and not any(question.id.startswith("unit") for question in made.questions)


def wired(at: int) -> dict[str, Any]:
    """Steps that say for each input where it comes from."""
    names = [f"m{at}{place}" for place in range(5)]

    def wire(place: int, out: str) -> dict[str, str]:
        return {"node": names[place], "out": out}

    model = {"vendor": "quayside", "name": "knot-2-large", "params": {"max_tokens": 220}}
    held: list[tuple[str, dict[str, Any], dict[str, Any]]] = [
        ("row.find", {"table": "claims"}, {}),
        ("ai.complete", {"model": model, "prompt": ["You sum up claims for a harbour office.", PROMPT.format(at)]}, {"text": wire(0, "text")}),
        ("table.find", {"table": "ships"}, {"key": wire(0, "ship")}), ("mail.send", {"to": "desk@ferry.example"}, {"body": wire(1, "summary"), "ship": wire(2, "row")}),
        ("row.insert", {"table": "claims"}, {"row": wire(1, "summary")}),
    ]  # fmt: skip
    modules = [
        {"uid": name, "label": f"{kind} of desk {at}", "type": kind, "config": config, "inputs": inputs}
        for name, (kind, config, inputs) in zip(names, held, strict=True)
    ]
    return {
        "title": f"Claims desk {at}",
        "rhythm": {"days": ["mon", "fri"], "at": f"0{at % 8}:30", "zone": "Europe/Oslo"},
        "modules": modules,
    }


def test_wires_at_inputs_of_any_name_are_links_and_a_time_with_its_days_starts_a_flow() -> None:
    """One input alone was taken for the links; days with a time of the day for nothing."""
    dialect = proposed([wired(at) for at in range(10)])
    (pointer,) = dialect.pointer
    assert (pointer.at, pointer.target, pointer.via, pointer.reversed) == ("inputs", "node", "out", True)
    assert dialect.trigger is not None and dialect.trigger.at == "$.rhythm"
    (flow, problems), *_ = DialectReader(dialect).flows(wired(3), Origin("w.json"), 40)
    assert problems == []
    assert {(link.source, link.target) for link in flow.links if link.source.startswith("m")} == {
        ("m30", "m31"), ("m30", "m32"), ("m31", "m33"), ("m32", "m33"), ("m31", "m34"),
    }  # fmt: skip
    schedule = flow.triggers[0].schedule
    assert schedule is not None and schedule.cron == "30 3 * * 1,5"


def test_documents_that_hold_no_steps_are_no_flows_of_the_builder() -> None:
    """Heads that stand in documents of their own were flows without steps: 20 for 10."""
    heads = [
        ("head.yaml", {"kind": "Header", "metadata": {"name": f"t{at}"}, "spec": {"owner": "Ase Lund"}})
        for at in range(10)
    ]
    tasks = [
        {"name": "fetch", "task": "http", "with": {"url": "https://tide.example", "method": "GET"}},
        {
            "name": "say",
            "task": "model",
            "with": {"model": "turnix-2-small", "prompt": PROMPT.format(7)},
            "depends": ["fetch"],
        },
        {"name": "post", "task": "mail", "with": {"to": "quay@ferry.example"}, "depends": ["say"]},
    ]
    bodies = [
        ("body.yaml", {"kind": "Tasks", "metadata": {"name": f"t{at}"}, "spec": {"tasks": [{**one, "title": f"{one['name']} {at}"} for one in tasks]}})
        for at in range(10)
    ]  # fmt: skip
    found = propose_from_documents([*heads, *bodies], "b")
    assert (len(found.used), len(found.bare), len(found.others), len(found.documents)) == (10, 10, 0, 10)
    assert "$.spec.tasks" in found.made.dialect.signature.all

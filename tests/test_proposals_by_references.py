"""Proposals that go by what names what: entries of objects that name each other, ways of which one is chosen, inputs wired or written out,
names that only some steps have."""

from __future__ import annotations

import itertools
import json
from typing import Any

from scores import proposed, read_with
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.outcomes import deciding_steps
from zeitbuch.core.passes.reachability import Reachability
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.questions import apply_answers


def desk(at: int) -> dict[str, Any]:
    """States under the same names in every flow, of which one leaves by what the guest wants."""
    ask = f"Find out what the guest of desk {at} wants: ticket, luggage or a person. Return one word."
    states = {
        "welcome": {"kind": "message", "text": "Welcome aboard! How can we help?", "go": "listen"},
        "listen": {"kind": "intent_model", "model": "tern-2", "instructions": ask,
                   "go": {"ticket": "sell", "luggage": "bag", "person": "human", "*": "welcome"}},
        "sell": {"kind": "http", "method": "POST", "url": "https://tickets.ferry.example", "go": "bye"},
        "bag": {"kind": "generate", "model": "tern-2", "instructions": f"Answer the question about luggage at desk {at}, please.", "go": "bye"},
        "human": {"kind": "handover", "queue": "office", "go": "bye"},
        "bye": {"kind": "message", "text": "Have a good sailing!", "end": True},
    }  # fmt: skip
    return {"bot": {"name": f"Ticket desk {at}", "states": states}, "channel": "chat"}


def test_entries_that_name_each_other_are_steps_whatever_they_are_called() -> None:
    made, flows = proposed([desk(at) for at in range(12)])
    assert made.dialect.step.at == "$.states[*]" and made.steps == 72
    assert {step.id for step in flows[0].steps} == {"welcome", "listen", "sell", "bag", "human", "bye"}


def test_of_named_ways_with_one_for_all_else_one_is_taken() -> None:
    """All four were taken each time, and round again by the last: 200 model calls a run."""
    made, flows = proposed([desk(at) for at in range(12)])
    assert {rule.match: (rule.role, rule.label) for rule in made.dialect.outlet} == {
        "[*]": ("case", "otherwise"),
        "luggage": ("case", "luggage"),
        "person": ("case", "person"),
        "ticket": ("case", "ticket"),
    }
    assert deciding_steps(flows[0]) == {"listen"} and Reachability(Graph(flows[0])).back_links == [
        ("listen", "welcome")
    ]


def test_an_outlet_by_which_others_go_every_way_is_no_case() -> None:
    """A rule for an outlet holds for all steps: one that takes all its ways would take one of them."""

    def export(at: int) -> dict[str, Any]:
        flow = desk(at)
        states = flow["bot"]["states"]
        states["bye"] = {"kind": "parallel", "go": {"ticket": "print", "luggage": "tag"}}
        states |= {"print": {"kind": "message", "text": "Here it is."}, "tag": {"kind": "message", "text": "Tagged."}}
        return flow

    made, _ = proposed([export(at) for at in range(12)])
    assert {rule.match for rule in made.dialect.outlet if rule.role == "case"} == {"[*]", "person"}


def ports(at: int) -> dict[str, Any]:
    """Steps that give out several things at once, each by a way of its own."""
    text = f"Sum up letter {at} of the passenger in three lines for the purser, please."
    return {
        "name": f"Ports {at}",
        "nodes": [
            {"id": "a", "kind": "http.get", "url": "https://post.ferry.example"},
            {"id": "b", "kind": "llm.ask", "model": "tern-2", "prompt": text},
            {"id": "c", "kind": "mail.send", "to": "purser@ferry.example"},
            {"id": "d", "kind": "table.insert", "table": "letters"},
        ],
        "wires": [
            {"from": "a", "port": "body", "to": "b"},
            {"from": "a", "port": "header", "to": "d"},
            {"from": "b", "port": "text", "to": "c"},
        ],
    }


def test_ways_that_only_name_what_is_given_out_are_all_taken() -> None:
    made, flows = proposed([ports(at) for at in range(12)])
    assert not any(rule.role == "case" for rule in made.dialect.outlet) and not deciding_steps(flows[0])


def wired(at: int) -> dict[str, Any]:
    """Inputs that are taken from a step or written out, each in an object of its own."""
    text = f"Rank the ships at berth board {at} by how soon they sail. Return the names only."
    return {
        "name": f"Berth board {at}",
        "blocks": [
            {"key": "load", "block": "sheet.read", "inputs": {"sheet": {"const": "berths"}}},
            {"key": "rank", "block": "ai.classify", "inputs": {
                "text": {"from": "load", "field": "rows"}, "instructions": {"const": text}, "model": {"const": "tern-2"}}},
            {"key": "post", "block": "chat.post", "inputs": {"also": {"from": "rank", "field": "label"}, "channel": {"const": "#berths"}}},
        ],
    }  # fmt: skip


def test_models_and_texts_written_out_beside_wired_inputs_are_found() -> None:
    made, flows = proposed([wired(at) for at in range(12)])
    assert made.dialect.step.model == "inputs.model.const"
    (ask,) = [step for step in flows[2].steps if step.model is not None]
    assert (
        ask.model is not None and ask.model.name == "tern-2" and ask.model.prompts[0].text.startswith("Rank the ships")
    )
    assert {(link.source, link.target) for link in flows[2].links} == {("load", "rank"), ("rank", "post")}


def tugs(at: int) -> dict[str, Any]:
    """A tree in which blocks have no names, and texts name the steps that have."""
    text = f"Which of these tugs of plan {at} need rest? Answer with their names: {{Tugs}}"
    mail = {"do": "send-mail", "name": "Tell crew", "to": "crew@ferry.example", "text": "{Assess}"}
    parts = [
        {"do": "read-table", "name": "Tugs", "table": "tugs"},
        {"do": "ask-model", "name": "Assess", "model": "tern-2", "ask": text},
        {"do": "at-once", "parts": [mail, {"do": "write-row", "name": "Note", "table": "rest"}]},
        {"do": "at-once", "parts": [{"do": "write-row", "name": "Log", "table": "log"}, {"do": "stop"}]},
    ]
    return {"plan": f"Tug plan {at}", "root": {"do": "sequence", "parts": parts}}


def test_names_that_some_steps_have_are_theirs_and_what_texts_refer_to() -> None:
    made, flows = proposed([tugs(at) for at in range(12)])
    assert made.dialect.step.id == ["name", "@place"] and made.dialect.step.name == ["name", "do"]
    read = {(one.reader, one.source) for one in Reachability(Graph(flows[0])).reads}
    assert read == {("Assess", "Tugs"), ("Tell crew", "Assess")}
    assert any("names some steps" in claim.words for claim in made.claims if claim.part == "id")


def test_a_model_named_by_a_variable_is_no_missing_model() -> None:
    """Half of the steps name their model, the others a variable: the flow was said to name the model of both."""

    def export(at: int) -> dict[str, Any]:
        steps = [
            {"id": "a", "kind": "http.get", "params": {"url": "https://quay.example"}},
            {"id": "b", "kind": "llm.ask", "params": {"model": "{{vars.main_model}}", "prompt": f"Judge quay {at} in one short sentence: {{{{a.body}}}}"}},
            {"id": "c", "kind": "llm.ask", "params": {"model": "petrel-mini", "prompt": f"Write it kindly for quay {at} in three sentences: {{{{b.text}}}}"}},
            {"id": "d", "kind": "mail.send", "params": {"to": "quay@ferry.example", "text": "{{c.text}}"}},
        ]  # fmt: skip
        wires = [{"from": "a", "to": "b"}, {"from": "b", "to": "c"}, {"from": "c", "to": "d"}]
        return {
            "title": f"Quay {at}",
            "vars": {"main_model": ("tern-2", "fulmar-mini-2")[at % 2]},
            "nodes": steps,
            "wires": wires,
        }

    made, flows = proposed([export(at) for at in range(12)])
    assert made.dialect.step.model == "params.model" and made.dialect.flow.model == ""
    assert [step.model.name for step in flows[0].steps if step.model] == ["tern-2", "petrel-mini"]


def test_a_condition_of_steps_of_several_operations_may_be_in_all_of_theirs() -> None:
    def export(at: int) -> dict[str, Any]:
        text = f"Say which moorings of list {at} are free, as a list of numbers: ${{{{ fetch.body }}}}"
        jobs = {
            "fetch": {"uses": "http/get", "with": {"url": "https://mooring.example"}},
            "think": {
                "uses": "llm/chat",
                "needs": ["fetch"],
                "if": "${{ fetch.status == 200 }}",
                "with": {"model": "tern-2", "prompt": text},
            },
            "mail": {
                "uses": "mail/send",
                "needs": ["think"],
                "with": {"to": "office@ferry.example", "body": "${{ think.text }}"},
            },
            "alarm": {
                "uses": "chat/post",
                "needs": ["fetch"],
                "if": "${{ fetch.status != 200 }}",
                "with": {"channel": "#alarm"},
            },
        }
        return {"workflow": f"mooring_{at}", "jobs": jobs}

    made, flows = proposed([export(at) for at in range(12)])
    assert made.dialect.step.own_condition == "if"
    assert {step.id for step in flows[0].steps if step.kind == "decide"} == {"think.if", "alarm.if"}


def crew(at: int, **router: Any) -> dict[str, Any]:
    """Agents that hand over to each other, of which one is called a router."""
    text = f"You greet guests of desk {at} and hand over to the colleague who knows the topic. Never answer yourself."
    work = f"You handle refunds of desk {at}. Look the booking up, then propose the refund and ask the purser."
    return {
        "team": f"Desk {at}",
        "agents": [
            {"name": "front", "role": "router", "llm": "petrel-mini-2", "instructions": text, "handoffs": ["refunds", "bags"], **router},
            {"name": "refunds", "role": "worker", "llm": "tern-2", "instructions": work, "tools": ["find", "pay"], "max_turns": 8},
            {"name": "bags", "role": "worker", "llm": "tern-2", "instructions": work, "tools": ["find"], "max_turns": 6},
        ],
    }  # fmt: skip


def test_what_asks_a_model_in_turns_is_an_agent_and_what_instructs_one_decides_nothing_by_itself() -> None:
    for more, kind in (({}, "model"), ({"max_turns": 4}, "agent")):
        made, flows = proposed([crew(at, **more) for at in range(6)])
        kinds = {rule.operation: rule.kind for rule in made.dialect.kind}
        assert kinds == {"router": kind, "worker": "agent", "find": "read"}  # what the worker may use, by its word
        # Agents hand over to one colleague or none: each time both were asked.
        ways = [(link.role, link.label) for link in flows[0].links if link.role != "attach"]
        assert ways == [("case", "refunds"), ("case", "bags")]


def test_a_model_that_only_the_environment_names_is_no_prompt() -> None:
    documents = [desk(at) for at in range(6)]
    for one in documents:
        for state in one["bot"]["states"].values():
            state |= {"model": "{{env.SMALL}}"} if "model" in state else {}
    made, flows = proposed(documents)
    assert made.dialect.step.model == "model" and [rule.path for rule in made.dialect.step.prompts] == ["instructions"]
    assert {step.model.name for step in flows[0].steps if step.model} == {"{{env.SMALL}}"}


def test_a_method_in_the_word_of_an_operation_says_what_it_may_do() -> None:
    def export(at: int) -> dict[str, Any]:
        steps = [
            {"id": name, "does": f"http.{name}", "with": {"url": f"https://quay.example/{at}"}, "then": after}
            for name, after in (("get", "post"), ("post", "delete"), ("delete", "patch"), ("patch", None))
        ]
        return {"title": f"Quay {at}", "steps": steps}

    made, _ = proposed([export(at) for at in range(6)])
    assert {rule.operation: rule.effect for rule in made.dialect.kind} == {
        "http.get": "read", "http.post": "write", "http.delete": "delete", "http.patch": "write",
    }  # fmt: skip


def test_what_was_not_measured_has_no_percentage_and_choices_are_told() -> None:
    made, _ = proposed([crew(at, max_turns=4) for at in range(6)])
    assert {claim.of: claim.sure_words for claim in made.claims if claim.part == "kind"} == {"router": "", "worker": ""}
    assert [claim.words for claim in made.claims if claim.part == "choices"] == [
        "of those named at 'handoffs' one is chosen each time"
    ]


def test_the_steps_of_a_picture_are_no_turns() -> None:
    documents = [crew(at, max_turns=4) for at in range(6)]
    for one in documents:
        for agent in one["agents"]:
            agent["steps"] = 30
            agent.pop("max_turns")
            agent.pop("tools", None)
    made, _ = proposed(documents)
    assert {rule.kind for rule in made.dialect.kind} == {"model"}


def test_a_case_is_called_after_a_step_and_not_after_a_mark() -> None:
    dialect = parse_dialect(
        'dialect = 1\nname = "j"\nsignature = { all = ["$.steps"] }\nflow = { id = "id" }\n'
        'step = { at = "$.steps[*]", id = "id", operation = "does" }\npointer = [{ at = "then", role = "case" }]\n'
        'kind = [{ operation = "bell", trigger = "manual" }, { operation = "ask", kind = "model" }]\n', "j.toml",
    )  # fmt: skip
    steps = [
        {"id": "t", "does": "bell", "then": "a"},
        {"id": "a", "does": "ask", "then": ["t", "b"]},
        {"id": "b", "does": "ask"},
    ]
    (flow,) = read_with(dialect, [{"id": "f", "steps": steps}])
    assert {link.label for link in flow.links} == {"a", "t", "b"}


def with_tools(at: int) -> dict[str, Any]:
    """Agents and what they may use, in two lists of a flow."""
    tools = [
        {"name": "find", "type": "http", "url": "https://book.example/find", "method": "GET"},
        {"name": "pay", "type": "sql", "query": f"insert into refunds values ({at})"},
        {"name": "clear", "type": "sql", "query": "DELETE FROM carts WHERE id = 1"},
    ]
    made = crew(at, max_turns=4)
    made["agents"][1]["tools"] = ["find", "pay", "clear"]
    return {**made, "tools": tools}


def test_a_list_of_what_steps_name_as_their_tools_holds_steps_too() -> None:
    """They were connections, and agents had no tools: 'no step sends, deletes or spends'."""
    made, flows = proposed([with_tools(at) for at in range(6)])
    step = made.dialect.step
    assert step.at == "$['agents','tools'][*]" and step.operation == ["role", "type"] and step.connection == ""
    assert made.dialect.flow.connections is None and made.steps == 36
    assert [(one.id, one.kind, one.effect) for one in flows[0].steps[3:]] == [
        ("find", "http", "read"), ("pay", "write", "write"), ("clear", "delete", "delete"),
    ]  # fmt: skip
    helping = {(link.source, link.target) for link in flows[0].links if link.role == "attach"}
    assert helping == {("find", "refunds"), ("pay", "refunds"), ("clear", "refunds"), ("find", "bags")}
    assert any("their tools" in claim.words for claim in made.claims if claim.part == "helpers")


def test_tools_and_variables_are_found_together() -> None:
    documents = [with_tools(at) for at in range(6)]
    for one in documents:
        one["vars"] = {"small": "petrel-mini-2", "large": "tern-2"}
        for place, agent in enumerate(one["agents"]):
            agent["llm"] = "{{vars.large}}" if place else "{{vars.small}}"
    made, flows = proposed(documents)
    assert made.dialect.step.at == "$['agents','tools'][*]" and made.dialect.flow.variables is not None
    assert [step.model.name for step in flows[0].steps if step.model] == ["petrel-mini-2", "tern-2", "tern-2"]


def test_a_list_that_steps_do_not_name_is_none_of_helpers() -> None:
    documents = [with_tools(at) for at in range(6)]
    for one in documents:
        one["agents"][1]["tools"] = one["agents"][2]["tools"] = ["elsewhere", "somewhere"]
    assert proposed(documents)[0].dialect.step.at in ("$.agents[*]", "$.tools[*]")


def test_helpers_may_stand_in_objects_by_their_names() -> None:
    documents = [with_tools(at) for at in range(6)]
    for one in documents:
        one["tools"] = [
            {"name": name, "type": kind, "url": "https://book.example"}
            for name, kind in zip(("find", "pay", "clear"), ("http", "mail", "http"), strict=True)
        ]
        for part in ("agents", "tools"):
            one[part] = {record.pop("name"): record for record in one[part]}
    made, flows = proposed(documents)
    assert made.dialect.step.at == "$['agents','tools'][*]" and made.dialect.step.id == "@key"
    assert {step.id for step in flows[0].steps} == {"front", "refunds", "bags", "find", "pay", "clear"}


def letters(at: int) -> dict[str, Any]:
    """A letter is drafted, judged by people, and sent if they said so; each step of an operation of its own."""
    ask = f"Draft a kind answer to letter {at} in at most eight sentences, without promising anything."
    waits = {"people": ["purser@ferry.example"], "need": 1, "deadline": "48h", "on_deadline": "approve"}
    return {
        "title": f"Letters {at}",
        "step": [
            {"key": "draft", "uses": "ai/complete", "with": {"model": "tern-2", "prompt": ask}},
            {"key": "check", "uses": "human/approve", "needs": ["draft"], "with": waits},
            {"key": "send", "uses": "mail/send", "needs": ["check"], "if": "${{ check.decision == 'approved' }}", "with": {"to": "a@ferry.example"}},
            {"key": "file", "uses": "db/insert", "needs": ["check"], "with": {"table": "letters"}},
        ],
    }  # fmt: skip


def test_a_condition_that_steps_of_one_operation_have_is_asked_about() -> None:
    """It stayed unread, without a question: the letter was sent in every run."""
    made, _ = proposed([letters(at) for at in range(4)])
    (asked,) = [one for one in made.questions if one.id == "condition"]
    assert asked.answers[0].word == "runs" and made.dialect.step.own_condition == ""
    dialect = apply_answers(made.dialect, made.questions, {"condition": "runs"})
    assert dialect.step.own_condition == "if"
    (rule,) = [one for one in made.dialect.kind if one.kind == "approve"]
    assert (rule.approvals_needed, rule.silence, rule.silences) == (
        "with.need",
        "with.on_deadline",
        {"approve": "approves"},
    )


def test_by_what_a_step_is_entered_is_no_way_out() -> None:
    def export(at: int) -> dict[str, Any]:
        units = [("in", "input.question", {}), ("num", "vector.encode", {"model": "tern-embed-2", "batch": 16}),
                 ("find", "vector.search", {"store": f"pages-{at}", "top": 6}), ("show", "mail.send", {"to": "a@ferry.example"})]  # fmt: skip
        nodes = [{"nid": name, "unit": {"is": kind, "set": given}} for name, kind, given in units]
        wires = [
            ("in", "num", "text"),
            ("num", "find", "vector"),
            ("in", "find", "question"),
            ("find", "show", "value"),
        ]
        return {
            "app": f"Pages {at}", "nodes": nodes,
            "wires": [{"a": {"n": first, "p": "out"}, "b": {"n": second, "p": port}} for first, second, port in wires],
        }  # fmt: skip

    made, flows = proposed([export(at) for at in range(5)])
    assert [rule.outlet for rule in made.dialect.links] == ["a.p"] and made.dialect.step.settings == "unit.set"
    assert {link.role for link in flows[0].links} == {"next"}
    assert {step.id: step.kind for step in flows[0].steps}["num"] == "embed"  # it was looked up, at no call


def page(at: int) -> dict[str, Any]:
    """A page of a list: each flow and step stands in a record of its own beside a cursor, settings are objects as text."""
    settings = (
        {"url": "https://news.example", "method": "GET"},
        {
            "model": "fulmar-large-2",
            "prompt": f"Sum up the page of quay {at} in five bullet points and leave out advertising.",
        },
        {"to": "crew@ferry.example", "body": "{{Sum up}}"},
    )
    kinds = (("HttpStep", "Get page"), ("PromptStep", "Sum up"), ("MailStep", "Send"))
    steps = [
        {"id": f"S{at}{place}", "__kind": kind, "label": label, "config": json.dumps(given)}
        for place, ((kind, label), given) in enumerate(zip(kinds, settings, strict=True))
    ]
    ways = [{"node": {"from": {"id": a["id"]}, "to": {"id": b["id"]}}} for a, b in itertools.pairwise(steps)]
    node = {
        "id": f"F{at}", "name": f"Quay {at}", "status": ("ACTIVE", "PAUSED")[at == 3], "trigger": {"__kind": "CronTrigger", "expression": f"{at} 8 * * *"},
        "steps": {"total": 3, "edges": [{"cursor": step["id"], "node": step} for step in steps]}, "transitions": {"edges": ways},
    }  # fmt: skip
    return {"cursor": f"c{at}", "node": node}


def test_flows_that_are_wrapped_beside_a_mark_are_what_is_wrapped() -> None:
    """They went by their cursors, without name, state or model, and the settings were prompts ("96 % sure")."""
    made, (flow, *more) = proposed([{"data": {"flows": {"edges": [page(at) for at in range(5)]}}}])
    assert made.dialect.flow.at == "$.data.flows.edges[*].node" and made.dialect.step.settings == "node.config"
    assert [rule.at for rule in made.dialect.text] == ["$.data.flows.edges[*].node.steps.edges[*].node.config"]
    assert (flow.id, flow.name, flow.state) == ("F0", "Quay 0", "on") and [one.state for one in more] == [
        "on",
        "on",
        "off",
        "on",
    ]
    assert [step.model.name for step in flow.steps if step.model] == ["fulmar-large-2"] and len(flow.links) == 3
    assert [one.path for one in made.dialect.step.prompts] == ["node.config.prompt"]


def test_entries_with_more_than_a_mark_are_the_flows() -> None:
    pages = [page(at) for at in range(5)]
    for one in pages:
        one |= {"owner": "ola@ferry.example", "notes": ["a", "b"]}
    made, _ = proposed([{"data": {"flows": {"edges": pages}}}])
    assert made.dialect.flow.at == "$.data.flows.edges[*]"


def test_what_stands_beside_a_definition_and_names_it_is_of_the_flow() -> None:
    rows = [{"number": 70 + at, "definition": page(at)["node"]} for at in range(5)]
    for row in rows:
        del row["definition"]["id"]
    made, flows = proposed([{"plans": rows}])
    assert made.dialect.flow.at == "$.plans[*]" and [flow.id for flow in flows] == ["70", "71", "72", "73", "74"]


def test_rules_begin_by_the_clock_or_by_what_happens() -> None:
    """The length of time was the name of all triggers, which all looked 'for new items regularly'."""

    def rule(at: int) -> dict[str, Any]:
        when = {"event": "mail.received", "box": f"desk{at}@ferry.example"} if at % 2 else {"every": "15 minutes"}
        acts = [
            {"action": "table.find", "table": "berths"},
            {"action": "mail.send", "to": "crew@ferry.example", "text": f"Quay {at}"},
        ]
        return {"rule": f"Quay {at}", "when": when, "then": acts}

    made, flows = proposed([{"rules": [rule(at) for at in range(6)]}])
    assert [(one.has, one.trigger) for one in made.dialect.kind if one.trigger] == [
        ("every", "schedule"),
        ("event", "event"),
    ]
    assert [flow.triggers[0].kind for flow in flows] == ["schedule", "event"] * 3 and made.dialect.trigger.name == ""  # type: ignore[union-attr]

"""BPMN: every value is read, unread or noise; what was lost is read; what a modelling tool edits in a file of ours is read as edited."""

from __future__ import annotations

import json
import random
import re
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest
from lxml import etree

from conftest import ESTATE, Run
from conservation import said_of
from test_standards import EVERYTHING, read_text
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.writers.exchange.bpmn import to_bpmn

MODEL = "http://www.omg.org/spec/BPMN/20100524/MODEL"
FILES = {
    "everything": EVERYTHING,
    "demo": (ESTATE / "november/standards/cabin-damage.bpmn").read_text(),
    "rich": (Path(__file__).parent / "documents" / "rich.bpmn").read_text(),
}
# Removing these changes nothing, for the schema says the same without them or says it twice.
SAID_ANYWAY = {
    "outgoing", "incoming", "dataInputRefs", "dataOutputRefs", "@isSequential", "@type", "@gatewayDirection", "to", "targetRef", "@cancelActivity", "@isInterrupting",
    "@triggeredByEvent", "flowNodeRef", "@dataObjectRef", "@name",
}  # fmt: skip


def values(root: Any) -> Iterator[tuple[Any, str]]:
    """Every attribute and text but those of the diagram, which is layout."""
    for element in root.iter():
        if isinstance(element.tag, str) and "/DI" not in element.tag and "/DC" not in element.tag:
            yield from ((element, name) for name in element.attrib)
            if (element.text or "").strip():
                yield element, ""


def silent_in(text: str, draw: random.Random, most: int) -> tuple[int, list[tuple[str, str]]]:
    """How many values were tried, and (act, where) of those that nothing tells when they are changed or removed."""
    root = etree.fromstring(text.encode())
    before = said_of(text.encode(), "x.bpmn")
    every = list(values(root))
    found = []
    for element, name in draw.sample(every, most) if len(every) > most else every:
        old = element.attrib[name] if name else element.text
        for act in ("changed", "removed"):
            if act == "removed":
                element.attrib.pop(name) if name else setattr(element, "text", None)
            elif name:
                element.attrib[name] = {"true": "false", "false": "true"}.get(old, f"{old}q")
            else:
                element.text = f"{old.strip()}q"
            after = said_of(etree.tostring(root), "x.bpmn")
            if name:
                element.attrib[name] = old
            else:
                element.text = old
            if after == before:
                found.append((act, f"@{etree.QName(name).localname}" if name else etree.QName(element).localname))
    return min(most, len(every)), found


@pytest.mark.parametrize("name", list(FILES))
def test_every_value_is_read_unread_or_noise(name: str) -> None:
    tried, silent = silent_in(FILES[name], random.Random(3), 150)
    print(f"{tried} values:", Counter(silent))
    assert [one for one in silent if one[0] == "changed" or one[1] not in SAID_ANYWAY] == []


def rich(run_path: Path) -> Flow:
    (flow, *_), reader = read_text(FILES["rich"], run_path, "rich.bpmn")
    assert [p.message for p in reader.problems if p.severity == "error"] == []
    return flow


def test_what_was_lost_is_read(tmp_path: Path) -> None:
    flow = rich(tmp_path)
    by = {step.id: step for step in flow.steps}
    inputs = {step.id: {binding.name: binding for binding in step.inputs} for step in flow.steps}
    triggers = {trigger.id: trigger for trigger in flow.triggers}
    # A shared timer, and one of two definitions each a trigger of its own.
    assert triggers["s"].kind == "schedule" and triggers["s"].schedule is not None
    assert triggers["s"].schedule.cron == "0 5 * * *" and triggers["s"].note == "Only on weekdays."
    assert triggers["s2"].kind == "event" and triggers["s2.2"].kind == "event" and triggers["s2.2"].event == "Gauge"
    assert {link.target for link in flow.links if link.source in ("s", "s2", "s2.2")} == {"ask"}
    # A fixed input: the prompt.
    assert inputs["ask"]["prompt"].value == "Grade this cargo as A, B or C."
    assert inputs["ask"]["message"].description == "to Customs" and inputs["ask"]["lane"].value == "Office / Desk"
    arrows = {link.id: link for link in flow.links}
    assert (
        arrows["f2"].note == "The grader must answer in 5 min."
        and arrows["f4"].otherwise
        and not arrows["f3"].otherwise
    )
    assert inputs["jam"]["error code"].value == "J-17"
    assert by["note"].about == ("ask",) and by["note"].note == "Ask twice in fog"
    assert {variable.name: variable.value for variable in flow.variables}["isExecutable"] == "true"
    recall = next(trigger for trigger in flow.triggers if trigger.id == "es")
    assert {binding.name: binding.value for binding in recall.inputs}["interrupting"] is False
    assert any(binding.description == "from Customs" for binding in inputs["hear"].values())


def test_a_process_without_start_begins_with_what_nothing_leads_to(tmp_path: Path, run: Run) -> None:
    text = f'<definitions xmlns="{MODEL}"><process id="p"><task id="a"/><task id="b"/><task id="c"/><sequenceFlow id="f" sourceRef="a" targetRef="b"/></process></definitions>'
    (flow,), _ = read_text(text, tmp_path, "x.bpmn")
    (trigger,) = flow.triggers
    assert trigger.kind == "manual" and {k.target for k in flow.links if k.source == trigger.id} == {"a", "c"}
    assert run("inventory", "x.bpmn").code == 0


def test_references_into_the_void_are_told(tmp_path: Path, run: Run) -> None:
    text = f'<definitions xmlns="{MODEL}"><process id="p"><startEvent id="s">'
    text += "<eventDefinitionRef>gone</eventDefinitionRef><outgoing>f9</outgoing></startEvent></process></definitions>"
    (tmp_path / "x.bpmn").write_text(text)
    ran = run("inventory", "x.bpmn")
    assert "'gone'" in ran.err and "'f9'" in ran.err and "reference-missing" in ran.err


def test_new_ids_of_arrows_are_no_change(tmp_path: Path, run: Run) -> None:
    (tmp_path / "old.bpmn").write_text(FILES["rich"])
    renamed = re.sub(r'(id="|>|default=")f(\d)', r"\1g\2", FILES["rich"])
    (tmp_path / "new.bpmn").write_text(renamed)
    assert run("diff", "old.bpmn", "new.bpmn").code == 0
    (tmp_path / "new.bpmn").write_text(renamed.replace('name="Sign"', 'name="Sign here"'))
    changes = json.loads(run("diff", "old.bpmn", "new.bpmn", "--format", "json").out)["flows"][0]["changes"]
    assert [change["type"] for change in changes] == ["step renamed"]


EDITS: dict[str, tuple[str, str]] = {
    "name": ('name="Ask the grader"', 'name="Ask the new grader"'),
    "note of a step": ("Takes a minute.", "Takes an hour."),
    "condition": ("grade = 'C'</", "grade = 'D'</"),
    "label": ('name="bad"', 'name="spoilt"'),
    "script": ("total = 1", "total = 2"),
    "called process": ('calledElement="berth-plan"', 'calledElement="berth-plan-2"'),
    "clock": ("0 5 * * *</", "0 6 * * *</"),
    "type of a task": ("bpmn:userTask", "bpmn:manualTask"),
    "default arrow": ("default=", "xdefault="),
    "error route": ('attachedToRef="ask"', 'attachedToRef="code"'),
    "end of an arrow": ('targetRef="hear"', 'targetRef="code"'),
    "note of an arrow": ("answer in 5 min", "answer in 5 days"),
    "lane": ('name="Desk"', 'name="Quay"'),
    "prompt in a data input": ("Grade this cargo as A, B or C.", "Grade this cargo from 1 to 9."),
    "data that is written": ('name="Grades"', 'name="Grade book"'),
    "message to others": ('name="Cargo list" sourceRef', 'name="Crew list" sourceRef'),
    "pool of others": ('name="Customs"', 'name="Harbour master"'),
    "one after the other": ('isSequential="true"', 'isSequential="false"'),
    "end of a repetition": (">enough<", ">plenty<"),
    "language of a script": ('scriptFormat="python"', 'scriptFormat="basic"'),
    "kind of an event": ("bpmn:signalEventDefinition", "bpmn:escalationEventDefinition"),
    "name of a signal": ('name="Gauge"', 'name="Fog"'),
    "code of an error": ('errorCode="J-17"', 'errorCode="J-18"'),
    "start that does not interrupt": ('isInterrupting="false"', 'isInterrupting="true"'),
    "group": ('value="Quay work"', 'value="Shed work"'),
    "executable": ('isExecutable="true"', 'isExecutable="false"'),
    "description of the flow": ("How cargo is graded.", "How cargo was graded."),
}


@pytest.mark.parametrize("edit", list(EDITS))
def test_edits_in_a_modelling_tool_are_read(edit: str, tmp_path: Path, run: Run) -> None:
    """A file of ours, edited where BPMN speaks: the record beside it does not overrule the edit."""
    text = to_bpmn(Estate(flows=(rich(tmp_path),)))
    old, new = EDITS[edit]
    head, tail = _outside_records(text)
    assert any(old in part for part in head), edit
    edited = "".join(a + b for a, b in zip([part.replace(old, new) for part in head], [*tail, ""], strict=True))
    (tmp_path / "old.bpmn").write_text(text)
    (tmp_path / "new.bpmn").write_text(edited)
    same = run("diff", "old.bpmn", "old.bpmn")
    assert same.code == 0
    ran = run("diff", "old.bpmn", "new.bpmn")
    assert ran.code == 1, ran.out


def _outside_records(text: str) -> tuple[list[str], list[str]]:
    """The text around the records of a file of ours, and the records."""
    parts: list[str] = []
    records: list[str] = []
    rest = text
    while (start := rest.find("<zb:record")) >= 0:
        end = rest.index("</zb:record>", start) + len("</zb:record>")
        parts.append(rest[:start])
        records.append(rest[start:end])
        rest = rest[end:]
    return [*parts, rest], records


def _without_records(text: str) -> str:
    """A file of ours as a tool leaves it that drops all extension elements."""
    root = etree.fromstring(text.encode())
    for held in root.xpath("//*[local-name()='extensionElements']"):
        held.getparent().remove(held)
    return etree.tostring(root).decode()


def _meaning(record: Any) -> dict[str, Any]:
    plain = msgspec.to_builtins(record)
    left_out = ("origin", "position", "unread", "id" if "source" in plain else "origin")
    return {key: value for key, value in plain.items() if key not in left_out}


@pytest.mark.parametrize("name", list(FILES))
def test_what_bpmn_can_say_stands_in_bpmn(name: str, tmp_path: Path) -> None:
    """Written out and robbed of its records, a file still says the same: event kinds, data, pools, messages, markers, lanes."""
    before, _ = read_text(FILES[name], tmp_path, "x.bpmn")
    after, _ = read_text(_without_records(to_bpmn(Estate(flows=tuple(before)))), tmp_path, "y.bpmn")
    for was, now in zip(before, after, strict=True):
        assert (was.name, was.folder, was.description) == (now.name, now.folder, now.description)
        assert [_meaning(one) for one in was.triggers] == [_meaning(one) for one in now.triggers]
        for step in was.steps:
            found = now.step(step.id)
            assert found is not None and _meaning(found) == _meaning(step)
        assert len(now.steps) == len(was.steps)
        assert sorted(str(_meaning(one)) for one in was.links) == sorted(str(_meaning(one)) for one in now.links)
        assert {v.name: v for v in was.variables} == {v.name: v for v in now.variables}
        assert was.connections == now.connections


def test_flows_of_other_builders_say_inputs_and_prompts_in_bpmn(november: Estate, tmp_path: Path) -> None:
    flow = november.flow("letters")
    assert flow is not None
    root = etree.fromstring(to_bpmn(Estate(flows=(flow,))).encode())
    texts = {one.text for one in root.iter(f"{{{MODEL}}}from")}
    prompts = {prompt.text for step in flow.steps if step.model for prompt in step.model.prompts}
    assert prompts and prompts <= texts
    (back,), _ = read_text(_without_records(etree.tostring(root).decode()), tmp_path, "y.bpmn")
    assert {step.name for step in back.steps} == {step.name for step in flow.steps}

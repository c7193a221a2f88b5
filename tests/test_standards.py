"""Open standards: what is read agrees with an independent count, BPMN goes round, and the output keeps the OMG schema."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from lxml import etree

from builders import drawn_flows, flows
from conftest import ESTATE, Run, read
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.readers.reading.reader import Reader
from zeitbuch.writers.exchange.bpmn import to_bpmn

BPMN = {"b": "http://www.omg.org/spec/BPMN/20100524/MODEL"}
SCHEMA = etree.XMLSchema(etree.parse(str(Path(__file__).parent / "schemas" / "BPMN20.xsd")))

EVERYTHING = """<?xml version="1.0"?>
<q:definitions xmlns:q="http://www.omg.org/spec/BPMN/20100524/MODEL" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" id="d" targetNamespace="urn:x">
 <q:message id="m" name="ship sighted"/><q:signal id="sg" name="fog"/><q:error id="er" name="no berth" errorCode="17"/>
 <q:collaboration id="c"><q:participant id="pa" name="Harbour" processRef="p"/><q:participant id="pb" name="Ship" processRef="p2"/>
  <q:messageFlow id="mf" name="call" sourceRef="send" targetRef="s2"/></q:collaboration>
 <q:process id="p" name="Berthing" isExecutable="true">
  <q:laneSet id="ls"><q:lane id="l" name="Pilot"><q:flowNodeRef>task</q:flowNodeRef></q:lane></q:laneSet>
  <q:startEvent id="st"><q:timerEventDefinition><q:timeCycle>R/PT15M</q:timeCycle></q:timerEventDefinition></q:startEvent>
  <q:startEvent id="sm"><q:messageEventDefinition messageRef="m"/></q:startEvent>
  <q:task id="task" name="Look"/><q:sendTask id="send"/><q:receiveTask id="recv" messageRef="m"/><q:userTask id="user"/>
  <q:manualTask id="manual"/><q:scriptTask id="script" scriptFormat="x"><q:script>a + b</q:script></q:scriptTask>
  <q:businessRuleTask id="rule"/><q:callActivity id="call" calledElement="p2"/>
  <q:serviceTask id="mi"><q:dataInputAssociation><q:sourceRef>dr</q:sourceRef><q:targetRef>x</q:targetRef></q:dataInputAssociation>
   <q:standardLoopCharacteristics loopMaximum="4"><q:loopCondition>depth &lt; 3</q:loopCondition></q:standardLoopCharacteristics></q:serviceTask>
  <q:subProcess id="sub"><q:multiInstanceLoopCharacteristics><q:completionCondition>done</q:completionCondition></q:multiInstanceLoopCharacteristics>
   <q:startEvent id="is"/><q:task id="inner"/><q:endEvent id="ie"/>
   <q:sequenceFlow id="i1" sourceRef="is" targetRef="inner"/><q:sequenceFlow id="i2" sourceRef="inner" targetRef="ie"/></q:subProcess>
  <q:subProcess id="fog" triggeredByEvent="true"><q:startEvent id="fs"><q:signalEventDefinition signalRef="sg"/></q:startEvent><q:task id="horn"/>
   <q:sequenceFlow id="e1" sourceRef="fs" targetRef="horn"/></q:subProcess>
  <q:transaction id="tx"><q:task id="pay"/></q:transaction>
  <q:exclusiveGateway id="x" default="fd"/><q:inclusiveGateway id="inc"/><q:parallelGateway id="fork"/><q:parallelGateway id="join"/>
  <q:eventBasedGateway id="ev"/><q:complexGateway id="cx"/>
  <q:intermediateCatchEvent id="ic"><q:timerEventDefinition><q:timeDuration>PT5M</q:timeDuration></q:timerEventDefinition></q:intermediateCatchEvent>
  <q:intermediateThrowEvent id="it"><q:signalEventDefinition signalRef="sg"/></q:intermediateThrowEvent>
  <q:boundaryEvent id="be" attachedToRef="user"><q:errorEventDefinition errorRef="er"/></q:boundaryEvent>
  <q:boundaryEvent id="bt" attachedToRef="manual" cancelActivity="false"><q:timerEventDefinition><q:timeDuration>P1D</q:timeDuration></q:timerEventDefinition></q:boundaryEvent>
  <q:endEvent id="end"/><q:endEvent id="stop"><q:terminateEventDefinition/></q:endEvent>
  <q:dataObject id="do"/><q:dataObjectReference id="dr" name="manifest" dataObjectRef="do"/><q:dataStoreReference id="ds" name="log book"/>
  <q:sequenceFlow id="f1" sourceRef="st" targetRef="task"/><q:sequenceFlow id="f2" sourceRef="sm" targetRef="task"/>
  <q:sequenceFlow id="f3" sourceRef="task" targetRef="x"/>
  <q:sequenceFlow id="f4" name="deep" sourceRef="x" targetRef="fork"><q:conditionExpression>depth &gt; 9</q:conditionExpression></q:sequenceFlow>
  <q:sequenceFlow id="fd" sourceRef="x" targetRef="end"/><q:sequenceFlow id="f5" sourceRef="fork" targetRef="user"/>
  <q:sequenceFlow id="f6" sourceRef="fork" targetRef="manual"/><q:sequenceFlow id="f7" sourceRef="user" targetRef="join"/>
  <q:sequenceFlow id="f8" sourceRef="manual" targetRef="join"/><q:sequenceFlow id="f9" sourceRef="join" targetRef="mi"/>
  <q:sequenceFlow id="g1" sourceRef="mi" targetRef="sub"/><q:sequenceFlow id="g2" sourceRef="be" targetRef="stop"/>
  <q:sequenceFlow id="g3" sourceRef="bt" targetRef="send"/>
  <q:textAnnotation id="ta"><q:text>Mind the rock</q:text></q:textAnnotation>
 </q:process>
 <q:process id="p2" name="Ship" isExecutable="true"><q:startEvent id="s2"/><q:task id="t2"/><q:sequenceFlow id="h1" sourceRef="s2" targetRef="t2"/></q:process>
</q:definitions>
"""


def read_text(text: str, tmp_path: Path, name: str) -> tuple[list[Flow], Reader]:
    path = tmp_path / name
    path.write_text(text)
    reader = Reader()
    return list(reader.read_sources([str(path)])), reader


def test_every_element_of_bpmn_is_read(tmp_path: Path) -> None:
    (harbour, ship), reader = read_text(EVERYTHING, tmp_path, "x.bpmn")
    assert [p.code for p in reader.problems if p.severity == "error"] == []
    kinds = {s.id: s.kind for s in harbour.steps}
    assert kinds == {
        "task": "other", "send": "send", "recv": "wait", "user": "approve", "manual": "approve", "script": "code", "rule": "code",
        "call": "subflow", "mi": "http", "mi.each": "loop", "sub": "loop", "is": "join", "inner": "other", "ie": "end", "fog": "group",
        "horn": "other", "tx": "guard", "pay": "other", "x": "decide", "inc": "decide", "fork": "parallel", "join": "join", "ev": "decide",
        "cx": "decide", "ic": "wait", "it": "send", "be": "join", "bt": "join", "end": "end", "stop": "end", "ta": "note",
    }  # fmt: skip
    by = {s.id: s for s in harbour.steps}
    assert by["mi.each"].repeat is not None and (by["mi.each"].repeat.cap, by["mi.each"].repeat.until) == (
        4,
        "depth < 3",
    )
    assert by["mi"].scope == "mi.each" and by["inner"].scope == "sub" and by["horn"].scope == "fog"
    assert by["join"].join == "all" and by["inc"].inclusive
    assert {b.name: b.value for b in by["task"].inputs} == {"lane": "Pilot"}
    assert by["mi"].inputs[0].refs[0].variable == "manifest"
    assert by["send"].inputs[-1].value == "call", "a message flow to another pool"
    links = {(k.source, k.target): k for k in harbour.links}
    assert (links["x", "fork"].role, links["x", "fork"].condition) == ("case", "depth > 9")
    assert links["x", "end"].label == "otherwise"
    assert (links["user", "be"].role, links["user", "be"].after) == ("error", ("failure",))
    assert links["manual", "bt"].after == ("timeout",) and "goes on" in links["manual", "bt"].label
    assert ("join", "mi.each") in links and ("fs", "fog") in links
    triggers = {t.id: t for t in harbour.triggers}
    assert triggers["st"].schedule is not None and triggers["st"].schedule.every == 900
    assert (triggers["sm"].kind, triggers["sm"].event) == ("event", "ship sighted") and triggers["fs"].event == "fog"
    assert ship.triggers[0].kind == "call", "another process calls it"
    assert [c.name for c in harbour.connections] == ["log book"] and harbour.folder == "Harbour"
    assert harbour.content.unread == 0


def test_an_id_drawn_at_random_is_no_secret(tmp_path: Path) -> None:
    name = "Xk29fQ7LmZp4Vt8Rb3Yw6Nc1"
    text = (
        f'<definitions xmlns="{BPMN["b"]}"><process id="p"><startEvent id="s"/><task id="{name}" name="Moor with the token 12ab"/>'
        f'<sequenceFlow id="f" sourceRef="s" targetRef="{name}"/></process></definitions>'
    )
    (flow,), reader = read_text(text, tmp_path, "random.bpmn")
    assert [p.code for p in reader.problems] == []
    assert flow.links[0].target == flow.steps[0].id == name


def counted(text: bytes) -> dict[str, int]:
    """An independent count of what a BPMN file holds, by XPath."""
    root = etree.fromstring(text)

    def n(*tags: str) -> int:
        return sum(len(root.xpath(f"//b:{t}", namespaces=BPMN)) for t in tags)

    return {
        "flows": n("process"),
        "tasks": n(
            "task",
            "serviceTask",
            "sendTask",
            "receiveTask",
            "userTask",
            "manualTask",
            "scriptTask",
            "businessRuleTask",
            "callActivity",
        ),
        "gateways": n("exclusiveGateway", "inclusiveGateway", "parallelGateway", "eventBasedGateway", "complexGateway"),
        "events": n("startEvent", "endEvent", "intermediateCatchEvent", "intermediateThrowEvent", "boundaryEvent"),
    }


def seen(found: list[Flow]) -> dict[str, int]:
    """The same of what was read."""
    operations = [s.operation.split(" ")[0] for f in found for s in f.steps] + [
        t.operation.split(" ")[0] for f in found for t in f.triggers
    ]
    return {
        "flows": len(found),
        "tasks": sum(o.endswith("Task") or o in ("task", "callActivity") for o in operations),
        "gateways": sum(o.endswith("Gateway") for o in operations),
        "events": sum(o.endswith("Event") for o in operations),
    }


def test_counts_agree_with_xpath(tmp_path: Path) -> None:
    for text in (EVERYTHING, (ESTATE / "november/standards/cabin-damage.bpmn").read_text()):
        found, _ = read_text(text, tmp_path, "x.bpmn")
        assert seen(found) == counted(text.encode())


def went_round(estate: Estate, tmp_path: Path) -> None:
    text = to_bpmn(estate)
    assert SCHEMA.validate(etree.fromstring(text.encode())), list(SCHEMA.error_log)[:3]
    back, reader = read_text(text, tmp_path, "round.bpmn")
    assert not [p for p in reader.problems if p.code == "bpmn-record"]
    assert {f.id: fingerprint(f) for f in back} == {f.id: fingerprint(f) for f in estate.flows}


def test_bpmn_goes_round_for_every_flow_of_the_demo(november: Estate, tmp_path: Path) -> None:
    went_round(november, tmp_path)


def test_bpmn_goes_round_for_every_element(tmp_path: Path) -> None:
    found, _ = read_text(EVERYTHING, tmp_path, "x.bpmn")
    went_round(Estate(flows=tuple(found)), tmp_path)


@settings(
    max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
)
@given(flow=drawn_flows())
def test_bpmn_goes_round_for_random_flows(flow: Flow, tmp_path: Path) -> None:
    went_round(Estate(flows=(flow,)), tmp_path)


def test_bpmn_of_any_contents_is_well_formed(tmp_path: Path) -> None:
    @settings(max_examples=25, deadline=None)
    @given(flow=flows())
    def check(flow: Flow) -> None:
        assert SCHEMA.validate(etree.fromstring(to_bpmn(Estate(flows=(flow,))).encode())), list(SCHEMA.error_log)[:3]

    check()


def test_edits_in_a_modelling_tool_count(november: Estate, tmp_path: Path) -> None:
    flow = november.flow("crew-swap")
    assert flow is not None
    text = to_bpmn(Estate(flows=(flow,)))
    (back,), _ = read_text(
        text.replace('name="Refuse"', 'name="Turn down"').replace(flow.steps[0].name, "Renamed"), tmp_path, "x.bpmn"
    )
    assert back.steps[0].name == "Renamed" and len(back.steps) == len(flow.steps)


SERVERLESS: dict[str, Any] = yaml.safe_load((ESTATE / "november/standards/sailing-statistics.yaml").read_text())


def test_serverless_tasks(tmp_path: Path) -> None:
    (flow,), reader = read_text(json.dumps(SERVERLESS), tmp_path, "x.json")
    assert reader.problems == []
    kinds = {s.id: s.kind for s in flow.steps}
    assert kinds == {
        "fetch": "guard", "sailings": "http", "note": "send", "routes": "loop", "comment": "tool", "busy": "decide", "page": "http",
    }  # fmt: skip
    by = {s.id: s for s in flow.steps}
    assert by["fetch"].retry is not None and (by["fetch"].retry.attempts, by["fetch"].retry.wait) == (2, 10)
    assert by["sailings"].effect == "read" and by["page"].effect == "write"
    links = {(k.source, k.target, k.role) for k in flow.links}
    assert ("fetch", "note", "error") in links and ("fetch", "routes", "next") in links
    assert not any(k.source == "note" for k in flow.links), "then: end"
    assert ("busy", "page", "case") in links
    assert flow.triggers[0].schedule is not None and flow.triggers[0].schedule.cron == "30 23 * * *"


def test_serverless_every_task_once(tmp_path: Path) -> None:
    tasks: list[dict[str, Any]] = [
        {"a": {"set": {"x": 1}}}, {"b": {"wait": "PT3S"}}, {"c": {"emit": {"event": {"with": {"type": "t"}}}}},
        {"d": {"listen": {"to": {"one": {"with": {"type": "t"}}}}}}, {"e": {"raise": {"error": {"status": 500}}, "if": "${ .x > 1 }"}},
        {"f": {"run": {"script": {"language": "python", "code": "1"}}}}, {"g": {"run": {"workflow": {"namespace": "n", "name": "w", "version": "1"}}}},
        {"h": {"do": [{"h1": {"set": {"y": 2}}}, {"h2": {"set": {"z": 2}, "then": "exit"}}]}},
        {"i": {"fork": {"branches": [{"i1": {"set": {}}}, {"i2": {"set": {}}}], "compete": True}}},
        {"j": {"for": {"in": "${ .all }", "each": "one"}, "while": "${ .go }", "do": [{"j1": {"call": "openapi", "with": {"operationId": "x"}}}]}},
        {"k": {"switch": [{"yes": {"when": "${ .a }", "then": "m"}}, {"no": {"then": "end"}}]}},
        {"l": {"set": {}}}, {"m": {"call": "grpc", "with": {}, "timeout": {"after": {"minutes": 2}}}},
    ]  # fmt: skip
    document = {
        "document": {"dsl": "1.0.0", "namespace": "n", "name": "f", "version": "1"},
        "do": tasks,
        "schedule": {"every": {"hours": 2}},
    }
    (flow,), reader = read_text(json.dumps(document), tmp_path, "x.json")
    assert [p for p in reader.problems if p.severity == "error"] == []

    def names(listed: list[dict[str, Any]]) -> set[str]:
        found: set[str] = set()
        for item in listed:
            for name, task in item.items():
                found |= {name} | names(task.get("do", [])) | names(task.get("fork", {}).get("branches", []))
        return found

    assert names(tasks) <= {s.id for s in flow.steps}
    by = {s.id: s for s in flow.steps}
    assert by["g"].calls == "n/w" and by["m"].timeout == 120 and by["i1"].scope == "i" and by["j1"].scope == "j"
    links = {(k.source, k.target, k.role) for k in flow.links}
    assert ("e.if", "e", "case") in links and ("e.if", "f", "case") in links
    assert ("k", "m", "case") in links and any(s == "k" and t.startswith("end") for s, t, _ in links)
    assert ("i", "i1", "case") in links and ("i1", "i2", "next") not in links
    assert flow.triggers[0].schedule is not None and flow.triggers[0].schedule.every == 7200


def test_arazzo_actions_and_lineage(tmp_path: Path) -> None:
    text = (ESTATE / "november/standards/booking-check.yaml").read_text()
    (flow,), reader = read_text(text, tmp_path, "x.yaml")
    assert reader.problems == []
    by = {s.id: s for s in flow.steps}
    assert {s for s in by if "." not in s} == {"sign-in", "find-berth", "book", "cancel"}
    assert by["sign-in"].retry is not None and by["sign-in"].retry.attempts == 2
    assert (by["find-berth"].effect, by["book"].effect, by["cancel"].effect) == ("read", "write", "delete")
    ref = next(b for b in by["find-berth"].inputs if b.name == "header.Authorization").refs[0]
    assert (ref.step, ref.path) == ("sign-in", "token")
    links = {(k.source, k.target, k.role, k.label) for k in flow.links}
    assert ("find-berth.then", "book", "case", "otherwise") in links
    assert ("find-berth.then", "find-berth.nothing free", "case", "nothing free") in links


def test_agent_spec_flow_and_agents(tmp_path: Path) -> None:
    text = (ESTATE / "november/standards/harbour-desk.json").read_text()
    (flow,), reader = read_text(text, tmp_path, "x.json")
    assert reader.problems == []
    by = {s.id: s for s in flow.steps}
    assert {s.id: s.kind for s in flow.steps} == {
        "sort": "model",
        "way": "decide",
        "answer": "model",
        "desk": "send",
        "done": "end",
    }
    use = by["sort"].model
    assert use is not None and (use.name, use.temperature, use.max_output) == ("fulmar-mini-2", 0.1, 60)
    assert use.prompts[0].refs[0].step == "asked"
    assert {(k.target, k.label) for k in flow.links if k.source == "way"} == {("answer", "simple"), ("desk", "default")}
    llm = {"component_type": "VllmConfig", "id": "m", "name": "m", "model_id": "fulmar-large-2", "url": "http://x"}
    tool = {
        "component_type": "ServerTool",
        "id": "t",
        "name": "find",
        "inputs": [{"title": "q", "type": "string"}],
        "outputs": [],
    }

    def agent(key: str) -> dict[str, Any]:
        return {
            "component_type": "Agent",
            "id": key,
            "name": key,
            "llm_config": llm,
            "system_prompt": "Help {{who}}.",
            "tools": [tool],
        }

    for document, pattern in (
        ({**agent("a"), "agentspec_version": "25.4.1"}, 1),
        (
            {
                "component_type": "ManagerWorkers",
                "id": "mw",
                "name": "Team",
                "group_manager": agent("boss"),
                "workers": [agent("w1"), agent("w2")],
            },
            3,
        ),
        (
            {
                "component_type": "Swarm",
                "id": "sw",
                "name": "Swarm",
                "first_agent": agent("one"),
                "relationships": [[agent("one"), agent("two")]],
            },
            2,
        ),
    ):
        (found,), _ = read_text(json.dumps(document), tmp_path, "y.json")
        agents = [s for s in found.steps if s.kind == "agent"]
        assert len(agents) == pattern and all(s.model and s.model.name == "fulmar-large-2" for s in agents)
        assert sum(k.role == "attach" for k in found.links) == pattern + (pattern - 1)


@pytest.mark.parametrize("suffix", ["bpmn", "yaml", "json"])
def test_convert_writes_what_it_reads(suffix: str, demo: Path, run: Run) -> None:
    assert run("convert", "-o", f"all.{suffix}", cwd=demo).code == 0
    again = Reader()
    found = list(again.read_sources([str(demo / f"all.{suffix}")]))
    assert {fingerprint(f) for f in found} == {fingerprint(f) for f in read(demo, "november").flows}


def test_serverless_of_version_0_8(tmp_path: Path) -> None:
    text = (Path(__file__).parent / "documents" / "serverless-0.8.yaml").read_text()
    (flow,), reader = read_text(text, tmp_path, "x.yaml")
    assert not [problem for problem in reader.problems if problem.severity == "error"]
    steps = {step.id: step for step in flow.steps}
    (trigger,) = flow.triggers
    assert trigger.schedule is not None and (trigger.schedule.cron, trigger.schedule.zone) == (
        "0 22 * * *",
        "Europe/Oslo",
    )
    look = steps["look"]
    assert look.kind == "http" and look.retry is not None and look.retry.attempts == 3 and look.retry.wait == 10
    assert look.timeout == 120 and {
        link.target for link in flow.links if link.source == "look" and link.role == "error"
    } == {"wait", "look.error 2"}
    kinds = {
        key: steps[key].kind
        for key in ("judge", "judge.2.if", "which", "berths", "tell", "answer", "heard", "note", "wait")
    }
    assert kinds == {
        "judge": "group",
        "judge.2.if": "decide",
        "which": "decide",
        "berths": "loop",
        "tell": "parallel",
        "answer": "group",
        "heard": "group",
        "note": "shape",
        "wait": "wait",
    }
    assert steps["berths.1"].calls == "berth-plan" and steps["tell.log"].effect == "write"
    cases = {link.label: (link.condition, link.target) for link in flow.links if link.source == "which"}
    assert cases == {
        "ship": ("${ .ship }", "berths"),
        "nothing": ("${ .ship | not }", "which.nothing"),
        "otherwise": ("", "wait"),
    }
    assert flow.format == "serverless-0.8" and flow.content.unread == 0


def test_a_first_state_of_events_makes_triggers(tmp_path: Path) -> None:
    document = {
        "id": "a", "specVersion": "0.8", "events": [{"name": "seen", "type": "quay.seen", "source": "/quay"}],
        "functions": [{"name": "ask", "operation": "x", "type": "custom"}],
        "states": [{"name": "s", "type": "event", "onEvents": [{"eventRefs": ["seen"], "actions": [{"functionRef": "ask"}]}], "transition": "gone"}],
    }  # fmt: skip
    (flow,), reader = read_text(json.dumps(document), tmp_path, "x.json")
    (trigger,) = flow.triggers
    assert (trigger.kind, trigger.event) == ("event", "quay.seen") and flow.steps[0].kind == "tool"
    assert [problem.code for problem in reader.problems if "gone" in problem.message] == ["link-end"]


@pytest.mark.parametrize(
    ("timers", "limit"),
    [
        ([("PT12H", "")], 43_200.0),
        ([("PT12H", ""), ("PT90M", "")], 5_400.0),
        ([("PT12H", 'cancelActivity="false"')], None),  # a reminder: the person goes on
        ([("=limit", "")], None),  # an expression of the engine
        ([("PT12H", 'cancelActivity="false"'), ("P2D", 'cancelActivity="true"')], 172_800.0),
    ],
)
def test_a_timer_on_the_border_that_interrupts_is_the_time_limit(
    timers: list[tuple[str, str]], limit: float | None, tmp_path: Path
) -> None:
    events = "".join(
        f'<boundaryEvent id="b{place}" attachedToRef="u" {more}><timerEventDefinition><timeDuration>{text}</timeDuration></timerEventDefinition></boundaryEvent>'
        for place, (text, more) in enumerate(timers)
    )
    text = (
        '<definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL" targetNamespace="x"><process id="p"><startEvent id="s"/>'
        f'<userTask id="u" name="Sign"/>{events}<sequenceFlow id="f" sourceRef="s" targetRef="u"/></process></definitions>'
    )
    (flow,), _ = read_text(text, tmp_path, "a.bpmn")
    (person,) = [one for one in flow.steps if one.id == "u"]
    assert person.timeout == limit

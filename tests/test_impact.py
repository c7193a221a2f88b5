"""What hangs on a thing: flows, calls, stores, handlers, figures; held against telling the story of the same failures."""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path
from typing import Any

import msgspec
import pytest
from msgspec import structs

from conftest import Run
from test_checks import AGENT, ATTACHED, PAYS, flow, given, step, takes
from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.records import EstateFacts, Person
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.kinds import IDLE_KINDS
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Approval, Connection, Flow, Link, ModelUse, Pieces, Ref, Trigger, Variable
from zeitbuch.core.report.impact.records import FlowImpact
from zeitbuch.core.report.impact.spread import needing_flows, spread_loss
from zeitbuch.core.report.impact.things import thing_of
from zeitbuch.core.report.possible_runs import Given
from zeitbuch.core.report.what_if import WhatIfSimulation

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))
from clean_flows import clean_estate, pay_desk

MAIL = (Connection(id="c", name="Desk mail", account="desk@x.example"),)


def impact(thing: str, *flows: Flow, people: tuple[Person, ...] = ()) -> dict[str, FlowImpact]:
    row, name = thing_of(thing)
    return {one.id: one for one in spread_loss(EstateView(flows, None, EstateFacts(people=people)), row, name)}


def uses(*steps: Any, **more: Any) -> Flow:
    return flow(*steps, connections=MAIL, **more)


def test_a_connection_that_is_gone() -> None:
    whole = uses(step("a"), step("b", "send", effect="send", connection="c"), step("e", "write", effect="write"))
    for name in ("Desk mail", "c", "desk@*"):
        (one,) = impact(f"connection:{name}", whole).values()
        assert (one.ending, one.odds, one.lost) == ("stops", "certain", ("B", "E")) and one.steps[
            0
        ].why == "uses the connection ‘Desk mail’"
    passed = uses(step("b", "send", effect="send", connection="c", on_fault="continue"), step("e"))
    assert [(one.ending, one.lost) for one in impact("connection:c", passed).values()] == [("goes on", ("B",))]
    branch = uses(
        step("d", "decide"),
        step("b", connection="c"),
        step("e"),
        links=(
            Link(source="t", target="d"),
            Link(source="d", target="b", role="case", label="x"),
            Link(source="d", target="e", role="case", label="y"),
        ),
    )
    assert [(one.ending, one.lost) for one in impact("connection:c", branch).values()] == [("may stop", ("B",))]
    polled = uses(step("a"), triggers=(Trigger(id="t", kind="polling", name="New mail", connection="c"),))
    assert [(one.ending, one.dead) for one in impact("connection:c", polled).values()] == [
        ("never starts", ("New mail",))
    ]
    assert (
        impact("connection:c", uses(step("b", connection="c", enabled=False)))
        == {}
        == impact("connection:other", whole)
    )


def test_nobody_misses_a_thing_where_nothing_asks_for_it() -> None:
    """Steps in a block that is off, or that nothing leads to, need nothing; flows that fill a store only by such fill none."""
    frame, within = step("g", "group", enabled=False), step("b", scope="g", connection="c")
    ways = (Link(source="t", target="a"), Link(source="a", target="g"))
    assert impact("connection:c", uses(step("a"), frame, within, links=ways)) == {}
    assert impact("connection:c", uses(step("a"), step("b", connection="c"), links=ways[:1])) == {}
    shelf = (Connection(id="k", name="Shelf"), *MAIL)
    reader = flow(step("r", "read", effect="read", connection="k"), id="reader", connections=shelf)
    fills = step("w", "write", effect="write", connection="k")
    filler = flow(step("b", connection="c"), fills, id="filler", name="Filler", connections=shelf)
    idle = flow(step("b", connection="c"), frame, structs.replace(fills, scope="g"), id="idle", connections=shelf,
                links=(Link(source="t", target="b"), Link(source="b", target="g")))  # fmt: skip
    dry = ("reads ‘Shelf’, which ‘Filler’ fills no more",)
    assert impact("connection:c", reader, filler)["reader"].notes == dry
    far = structs.replace(idle, id="far", steps=(step("b"), *idle.steps[1:]))  # the loss does not reach it
    for other in (idle, far):
        assert impact("connection:c", reader, filler, other)["reader"].notes == dry
    assert "reader" not in impact("connection:c", reader, filler, flow(fills, id="more", connections=shelf))
    assert "reader" not in impact("connection:c", reader, idle)


def test_calls_stores_and_handlers() -> None:
    pay = uses(step("b", connection="c"), id="pay", name="Pay", triggers=(Trigger(id="t", kind="call"),))
    desk = flow(step("s", "subflow", calls="pay"), step("e"), id="desk", name="Desk", fault_handlers=("Faults",))
    far = flow(step("s", "subflow", calls="Desk", awaits=False), id="far", name="Far")
    near = flow(step("s", "subflow", calls="Desk", on_fault="continue"), id="near", name="Near")
    faults = flow(step("x"), id="faults", name="Faults", triggers=(Trigger(id="t", kind="fault"),))
    found = impact("connection:c", pay, desk, far, near, faults)
    assert {key: one.ending for key, one in found.items()} == {"pay": "stops", "desk": "stops", "near": "goes on"}
    assert (
        found["desk"].through == "Pay"
        and found["desk"].steps[0].why == "calls ‘Pay’, which stops"
        and found["desk"].lost == ("S", "E")
    )
    gone = impact("flow:Faults", pay, desk, far, near, faults)
    assert gone["faults"].ending == "gone" and gone["desk"].notes == ("its failures are no longer taken by ‘Faults’",)
    assert {key: one.ending for key, one in impact("flow:desk", pay, desk, far, near).items()} == {
        "desk": "gone",
        "far": "stops",
        "near": "goes on",
    }
    chosen = flow(step("s", "subflow", calls="{t.which}"), id="any", name="Any")
    assert [(one.ending, one.odds) for one in impact("flow:pay", chosen).values()] == [("may stop", "perhaps")]
    fills = uses(step("w", "write", effect="write", connection="c"), step("q"), id="fills", name="Fills")
    reads = uses(step("r", "read", effect="read", connection="c"), id="reads", name="Reads")
    off = impact("step:fills/w", fills, reads)
    assert (
        off["reads"].ending == "goes on"
        and off["reads"].notes == ("reads ‘Desk mail’, which ‘Fills’ fills no more",)
        and off["reads"].through == "Fills"
    )


def test_models_tools_people_variables_hosts_and_stores() -> None:
    equipped = flow(AGENT, PAYS, links=ATTACHED)
    assert [(one.ending, one.lost) for one in impact("model:m", equipped).values()] == [("stops", ("A",))]
    tool = impact("step:f/p", equipped)["f"]
    assert (tool.ending, tool.perhaps_lost, tool.notes) == ("goes on", ("P",), ("the agent ‘A’ has one tool less",))
    assert impact("model:{m}", equipped) == {}
    asks = flow(step("o", "approve", approval=Approval(approvers=("Maren Dahl",))), step("e"), owners=("Maren Dahl",))
    two = flow(
        step("o", "approve", approval=Approval(approvers=("Maren Dahl", "Tor"))),
        step("e"),
        owners=("Maren Dahl", "Tor"),
    )
    one, other = impact("person:maren dahl", asks)["f"], impact("person:Maren Dahl", two)["f"]
    assert (one.ending, one.notes) == ("stops", ("nobody answers for it any more",)) and (
        other.ending,
        other.notes,
    ) == ("goes on", ("Tor alone answer for it",))
    variable = flow(
        step("a", inputs=(given("x", "{v}", refs=(Ref(variable="v", text="{v}"),)),)),
        variables=(Variable(name="v", value=1),),
    )
    assert impact("variable:v", variable)["f"].ending == "stops"
    web = flow(step("a", inputs=(given("url", "https://u:p@api.x.example/v1"),)))
    assert impact("host:api.x.example", web)["f"].ending == "stops" and impact("host:x.example", web) == {}
    chosen = flow(step("a", inputs=(takes("t", role="address"),)))
    assert [(one.ending, one.odds) for one in impact("host:api.x.example", chosen).values()] == [
        ("may stop", "perhaps")
    ]
    shelf = flow(step("r", "retrieve", effect="read", model=ModelUse(name="v"), pieces=Pieces(store="Shelf")))
    assert impact("store:shelf", shelf)["f"].ending == "stops"
    for wrong in ("boat:x", "model", "model:", "x"):
        with pytest.raises(ZeitbuchError):
            thing_of(wrong)


@pytest.mark.parametrize("seed", range(40))
def test_it_agrees_with_telling_the_story_of_the_same_failures(seed: int) -> None:
    estate = msgspec.convert([*[made.flow for made in clean_estate(seed)], pay_desk()], list[Flow])
    services = sorted({one.name for one_flow in estate for one in one_flow.connections})
    for name in services[:3]:
        found = impact(f"connection:{name}", *estate)
        for one in estate:
            keys = {connection.id for connection in one.connections if connection.name == name}
            graph = Graph(one)
            failing = frozenset(part.id for part in one.steps if part.connection in keys and part.id not in graph.host)
            helpers = [part for part in one.steps if part.connection in keys and part.id in graph.host]
            if not failing:
                assert one.id not in found or helpers or found[one.id].through
                continue
            story = {
                event.id: event.odds for event in WhatIfSimulation(graph, Given(fails=failing)).tell_story().events
            }
            calm = {event.id: event.odds for event in WhatIfSimulation(graph, Given()).tell_story().events}
            lost = {
                key
                for key, odds in calm.items()
                if odds != "not" and (key in failing or story[key] == "not") and graph.steps[key].kind not in IDLE_KINDS
            }
            assert set(found[one.id].lost) == {graph.names[key] for key in lost}


# -- the command --------------------------------------------------------------------------------------------------------


def told(run: Run, demo: Path, *options: str) -> dict[str, Any]:
    return dict(json.loads(run("impact", *options, "-f", "json", cwd=demo).out))


def test_the_demo(demo: Path, run: Run) -> None:
    model = told(run, demo, "model:fulmar-mini-2")
    endings = {one["id"]: one["ending"] for one in model["flows"]}
    assert endings["SH-1052"] == "stops" and endings["letters"] == "may stop" and endings["fault-logger"] == "goes on"
    assert (
        model["cost"] == pytest.approx(sum(one["cost"] or 0 for one in model["flows"]))
        and "Ivar Lunde (Bridge)" in model["tell"]
    )
    text = run("impact", "model:fulmar-mini-2", cwd=demo).out
    assert "Without model:fulmar-mini-2: 10 flows (4 stop, 3 may stop, 3 go on)" in text and "To tell: " in text
    handler = {one["id"]: one for one in told(run, demo, "flow:fault-logger")["flows"]}
    assert handler["fault-logger"]["ending"] == "gone" and handler["SH-1077"]["notes"] == [
        "its failures are no longer taken by ‘Fault logger’"
    ]
    assert not any("Maren" in one for one in told(run, demo, "person:Maren Dahl")["tell"])
    nothing = told(run, demo, "model:fulmer-mini-2")
    assert nothing["flows"] == [] and nothing["nothing"].startswith(
        "No flow names the model 'fulmer-mini-2'; there are fulmar-mini-2"
    )
    assert "is there, and no step" in told(run, demo, "variable:match_days")["nothing"]


def test_slower_and_dearer(demo: Path, run: Run) -> None:
    model = told(run, demo, "model:fulmar-mini-2", "--dearer", "20")
    assert model["dearer"] > 0 and all(one["ending"] == "costs more" for one in model["flows"])
    assert model["dearer"] <= 0.2 * model["cost"] + 1e-9
    whole = told(run, demo, "flow:letters", "--dearer", "100")
    assert whole["dearer"] == pytest.approx(whole["cost"], rel=1e-6)
    slow = {one["id"]: one for one in told(run, demo, "connection:*", "--slower", "5")["flows"]}
    assert {one["ending"] for one in slow.values()} <= {"waits longer", "may stop", "goes on"} and len(slow) > 5
    assert any("may run out" in step["why"] for one in slow.values() for step in one["steps"])
    ran = run("impact", "person:x", "--dearer", "3", cwd=demo)
    assert ran.code == 2 and "[thing]" in ran.err
    assert run("impact", "model:x", "--slower", "0.5", cwd=demo).code == 2


def test_the_map_of_an_impact(demo: Path, run: Run) -> None:
    ran = run("impact", "model:fulmar-mini-2", "--map", "i.svg", "-o", "i.csv", cwd=demo)
    drawn = (demo / "i.svg").read_text()
    assert ran.code == 0 and "may stop" in drawn and "what follows when model:fulmar-mini-2 is gone" in drawn
    assert (demo / "i.csv").read_text().startswith("\ufeffflow,id,ending,")
    assert run("impact", "model:x", "--map", "i.xyz", cwd=demo).code == 2


def test_dearer_is_what_the_estimate_says_with_dearer_prices(demo: Path, run: Run) -> None:
    """Also where the model is attached to an agent, which is where it is paid for."""

    def months() -> dict[str, float]:
        flows = json.loads(run("estimate", "-f", "json", cwd=demo).out)["flows"]
        return {one["id"]: float(one["cost_month"]["amount"]) for one in flows if one.get("cost_month")}

    found = told(run, demo, "model:fulmar-large-2", "--dearer", "20")
    before = months()
    card = demo / "rates.toml"
    first, block, *rest = re.split(r"(?=\[\[model\]\])", card.read_text())
    assert 'name = "fulmar-large-2"' in block
    dearer = re.sub(
        r"(?m)^((?:input|cached|output) = )([0-9.]+)", lambda hit: f"{hit[1]}{float(hit[2]) * 1.2:.6f}", block
    )
    card.write_text("".join([first, dearer, *rest]))
    after = months()
    for one in found["flows"]:
        assert one["dearer"] == pytest.approx(after[one["id"]] - before[one["id"]], rel=1e-3, abs=1e-6), one["name"]
        assert one["dearer"] > 0
    assert found["dearer"] == pytest.approx(sum(after.values()) - sum(before.values()), rel=1e-3)


def test_a_flow_that_is_slower_holds_up_those_that_wait_for_it(demo: Path, run: Run) -> None:
    slow = told(run, demo, "flow:SH-1052", "--slower", "5")
    assert [(one["id"], one["ending"]) for one in slow["flows"]] == [("PL-7", "waits longer")]
    assert slow["flows"][0]["steps"][0]["why"].startswith("calls ‘Berth delay notices’")


def test_two_flows_with_one_id_are_both_told() -> None:
    row, name = thing_of("connection:Desk mail")
    twins = [uses(step("b", "send", connection="c"), name=name) for name in ("Dev", "Prod")]
    found = spread_loss(EstateView(twins, None, EstateFacts()), row, name)
    assert {one.name for one in found} == {"Dev", "Prod"}
    assert {one.name for one in needing_flows(EstateView(twins, None, EstateFacts()), row, name)} == {"Dev", "Prod"}


def test_a_limit_on_the_agent_is_one_on_its_model() -> None:
    from zeitbuch.app.impact import _limit_of

    parts = (step("g", "guard", timeout=90.0), step("a", "agent", scope="g", timeout=40.0), step("m", "model"))
    held = flow(*parts, links=(Link(source="m", target="a", role="attach"),))
    assert [_limit_of(held, key) for key in ("m", "a", "g")] == [40.0, 40.0, 90.0]
    assert _limit_of(flow(step("x")), "x") is None


def without_price(demo: Path, model: str) -> None:
    """Takes the price of a model out of the rate card."""
    card = demo / "rates.toml"
    text = card.read_text()
    assert text.count(f'name = "{model}"') == 1
    also = f'also = ["{model.rpartition("-")[0]}-*"]'
    card.write_text(text.replace(f'name = "{model}"', 'name = "another"').replace(also, 'also = ["another-*"]'))


def test_what_has_no_price_is_in_no_sum_and_said(demo: Path, run: Run) -> None:
    before = {one["id"]: one for one in told(run, demo, "model:fulmar-large-2", "--dearer", "20")["flows"]}
    without_price(demo, "fulmar-large-2")
    gone = told(run, demo, "model:fulmar-large-2")
    assert gone["unpriced"] == ["fulmar-large-2"] == gone["flows"][0]["unpriced"]
    dearer = told(run, demo, "model:fulmar-large-2", "--dearer", "20")
    assert dearer.get("dearer") is None and all(one.get("dearer") is None for one in dearer["flows"])
    assert {one["id"] for one in dearer["flows"]} == set(before)
    text = " ".join(run("impact", "model:fulmar-large-2", "--dearer", "20", cwd=demo).out.split())
    assert "What it costs more is not known." in text and " 0 EUR more" not in text
    assert "No price is known of fulmar-large-2: it is not in the sums." in text
    assert "4.36 + ?" in text  # what the small models and the meters take there is known
    flow = " ".join(run("impact", "flow:*", "--dearer", "20", cwd=demo).out.split())
    assert "It costs at least" in flow


def test_findings_and_conditions_know_a_cost_that_is_not_whole(demo: Path, run: Run) -> None:
    def ids(where: str) -> set[str]:
        return {
            one["id"] for one in json.loads(run("inventory", "--where", where, "-f", "json", cwd=demo).out)["flows"]
        }

    without_price(demo, "fulmar-large-2")
    assert "letters" in ids("cost>0.001") and "letters" not in ids("cost<100000") | ids("cost=0")
    found = json.loads(run("check", "-f", "json", cwd=demo).out)["findings"]
    partly = [one for one in found if one["flow_id"] == "letters"]
    assert partly and all(one["unpriced"] == ["fulmar-large-2"] for one in partly)
    assert " + ?" in run("check", "--flow", "letters", "-f", "csv", cwd=demo).out

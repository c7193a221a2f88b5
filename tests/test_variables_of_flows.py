"""Variables of flows: plain values under their names, models and clocks that are named by one, and both proposed."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from scores import proposed, read_with
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow, Ref
from zeitbuch.readers.dialects.rules import parse_dialect

DIALECT = """
dialect = 1
name = "jetty"
signature = { all = ["$.steps"] }
flow = { id = "id", variables = { at = "$.locker[*]", name = "@key", value = "." } }
step = { at = "$.steps[*]", id = "id", operation = "does", settings = "with", model = "brain", prompts = [{ path = "ask" }] }
placeholders = { open = "{{", close = "}}" }
kind = [
  { operation = "tick", trigger = "schedule", cron = "at", zone = "zone" },
  { operation = "ask", kind = "model" },
  { operation = "tell", kind = "send", effect = "send" },
]
"""
TEXT = "Read the letter {} of the passenger and name in one word what it is about, please."


def read(locker: Any, *steps: dict[str, Any], dialect: str = DIALECT) -> Flow:
    (flow,) = read_with(parse_dialect(dialect, "jetty.toml"), [{"id": "f", "locker": locker, "steps": list(steps)}])
    return flow


def models(flow: Flow) -> list[tuple[str | None, str | None]]:
    return [(step.model.name, step.model.variable) for step in flow.steps if step.model is not None]


def test_plain_values_are_variables() -> None:
    flow = read({"desk": "crew@ferry.example", "most": 3, "hours": {"from": 6, "to": 20}, "empty": None})
    assert {one.name: one.value for one in flow.variables} == {
        "desk": "crew@ferry.example", "most": 3, "hours": {"from": 6, "to": 20},
    }  # fmt: skip
    assert flow.unread == {} and flow.content.unread == 0


def test_an_item_with_a_value_of_its_own_has_that() -> None:
    other = DIALECT.replace('value = "."', 'value = ["says", "."]')
    flow = read({"desk": {"says": "crew@ferry.example", "hue": 3}, "most": 3}, dialect=other)
    assert {one.name: one.value for one in flow.variables} == {"desk": "crew@ferry.example", "most": 3}
    assert "hue" in str(flow.unread)


def test_a_model_that_a_variable_names_is_its_value() -> None:
    locker = {"brain": "tern-2", "other": {"small": "petrel-mini"}, "most": 3, "again": "{{brain}}"}
    steps = [
        {"id": at, "does": "ask", "brain": text}
        for at, text in enumerate(
            ("{{brain}}", " {{ other.small }} ", "{{most}}", "{{again}}", "{{gone}}", "gull {{brain}}")
        )
    ]
    assert models(read(locker, *steps)) == [
        ("tern-2", "brain"), ("petrel-mini", "other.small"), ("{{most}}", None), ("{{again}}", None), ("{{gone}}", None),
        ("gull {{brain}}", None),
    ]  # fmt: skip


def test_a_clock_that_a_variable_holds_is_its_value() -> None:
    for text, cron, every in (
        ("0 6 * * *", "0 6 * * *", None),
        ("PT15M", None, 900.0),
        ("now and then", "{{beat}}", None),
    ):
        flow = read({"beat": text}, {"id": "a", "does": "tick", "with": {}, "at": "{{beat}}", "zone": "Europe/Oslo"})
        (trigger,) = flow.triggers
        clock = trigger.schedule
        assert clock is not None and (clock.cron, clock.every, clock.zone) == (
            cron,
            every,
            "Europe/Oslo" if not every else clock.zone,
        )
        assert clock.variable == (None if text == "now and then" else "beat")


def test_placeholders_mean_variables_where_no_step_is_called_so() -> None:
    steps = [
        {"id": "desk", "does": "ask", "brain": "tern-2", "ask": "Say {{greeting}} and {{guest.name}}."},
        {"id": "b", "does": "tell", "with": {"to": "{{desk.answer}}", "text": "{{nobody}}"}},
    ]
    flow = read({"greeting": "Ahoy", "guest": {"name": "Ola"}, "desk": "crew@ferry.example"}, *steps)
    use = flow.steps[0].model
    assert use is not None and use.prompts[0].refs == (
        Ref(variable="greeting", text="{{greeting}}"), Ref(variable="guest", path="name", text="{{guest.name}}"),
    )  # fmt: skip
    assert [ref.step for one in flow.steps[1].inputs for ref in one.refs] == ["desk", "nobody"]


def export(at: int, way: str, opening: str) -> dict[str, Any]:
    """A flow whose model and clock are variables; ``way``: how these are written."""
    values = {"brain": ("tern-2", "petrel-mini-1")[at % 2], "beat": f"{at} 6 * * *", "desk": f"desk{at}@ferry.example"}
    listed = [{"called": name, "value": value} for name, value in values.items()]
    steps = [
        {"ref": "n0", "caption": "Tick", "does": "cron.start", "with": {"cron": f"${{{opening}beat}}"}},
        {"ref": "n1", "caption": "Look", "does": "table.find", "with": {"table": "berths"}, "after": ["n0"]},
        {"ref": "n2", "caption": "Sort", "does": "llm.ask", "with": {"model": f"${{{opening}brain}}", "prompt": TEXT.format("${n1.rows}")}, "after": ["n1"]},
        {"ref": "n3", "caption": "Tell", "does": "mail.send", "with": {"to": f"${{{opening}desk}}", "text": "${n2.text}"}, "after": ["n2"]},
    ]  # fmt: skip
    return {
        "slug": f"desk-{at}",
        "title": f"Harbour desk {at}",
        "locker": values if way == "object" else listed,
        "tasks": steps,
    }


@pytest.mark.parametrize(
    ("way", "opening"), [("object", "locker."), ("object", ""), ("list", "locker."), ("list", "vars:")]
)
def test_variables_are_proposed_by_who_names_them(way: str, opening: str) -> None:
    documents = [export(at, way, opening) for at in range(8)]
    made, flows = proposed(documents)
    assert made.dialect.flow.variables is not None and made.dialect.flow.owners == ""
    for at, flow in enumerate(flows):
        assert models(flow) == [(("tern-2", "petrel-mini-1")[at % 2], "brain")]
        (trigger,) = flow.triggers
        assert trigger.schedule is not None and trigger.schedule.cron == f"{at} 6 * * *"
        assert not flow.content.unread and {step.kind for step in flow.steps} == {"read", "model", "send"}
    assert any(claim.part == "variables" for claim in made.claims)
    assert not any(claim.part == "prompts" and "model" in claim.words for claim in made.claims)


SHARED = DIALECT.replace(
    'signature = { all = ["$.steps"] }\nflow = { id',
    'signature = { all = ["$.plans"] }\nflow = { at = "$.plans[*]", id',
).replace('value = "."', 'value = ".", shared = true')


def test_variables_of_a_document_are_those_of_the_flows_that_name_them() -> None:
    plans = [
        {"id": f"f{at}", "steps": [{"id": "a", "does": "ask", "brain": name}]}
        for at, name in enumerate(("{{brain}}", "gull-2"))
    ]
    dialect = parse_dialect(SHARED, "jetty.toml")
    flows = read_with(dialect, [{"plans": plans, "locker": {"brain": "tern-2", "idle": "x"}}])
    assert [models(flow) for flow in flows] == [[("tern-2", "brain")], [("gull-2", None)]]
    assert [[one.name for one in flow.variables] for flow in flows] == [["brain"], []]
    assert flows[0].around == {"variables that no flow names": {"idle": "x"}} and flows[0].content.unread == 1
    (bare,) = read_with(dialect, [{"plans": plans[:1]}])
    assert models(bare) == [("{{brain}}", None)]


def test_connections_stand_in_their_flow() -> None:
    with pytest.raises(ZeitbuchError, match="connections stand in their flow"):
        parse_dialect(
            DIALECT.replace("variables =", "connections =").replace('value = "."', "shared = true"), "jetty.toml"
        )


@pytest.mark.parametrize("way", ["object", "list"])
def test_variables_of_a_document_are_proposed(way: str) -> None:
    flows = [export(at, way, "locker.") for at in range(6)]
    for flow in flows:
        locker = flow.pop("locker")
    made, read = proposed([{"bundle": "night", "locker": locker, "plans": flows}])
    held = made.dialect.flow.variables
    assert held is not None and held.shared and held.at == "$.locker[*]"
    assert {name for flow in read for name, _ in models(flow)} == {"petrel-mini-1"}
    assert all(flow.triggers[0].schedule and flow.triggers[0].schedule.cron == "5 6 * * *" for flow in read)


def test_an_object_that_no_step_names_holds_no_variables() -> None:
    documents = [export(at, "object", "locker.") for at in range(8)]
    for one in documents:
        one["tasks"][0]["with"]["cron"], one["tasks"][2]["with"]["model"] = "0 6 * * *", "tern-2"
        one["tasks"][3]["with"] = {"to": "crew@ferry.example", "text": "${n2.text}"}
        one["locker"] = {"text": "Berths", "mail": "ola@ferry.example"}  # 'text' is what n2 gives out
    assert proposed(documents)[0].dialect.flow.variables is None


def test_flows_that_differ_in_their_variables_only_keep_their_steps() -> None:
    documents = [export(at, "list", "vars:") for at in range(4)]
    assert all(one["tasks"] == documents[0]["tasks"] for one in documents)
    assert proposed(documents)[0].dialect.step.at == "$.tasks[*]"


def test_what_is_named_by_a_variable_is_priced_drawn_and_compared(tmp_path: Path, run: Run) -> None:
    for at in range(3):
        (tmp_path / "x").mkdir(exist_ok=True)
        (tmp_path / "x" / f"{at}.json").write_text(json.dumps(export(at, "object", "locker.")))
    run("dialect", "suggest", "x", "--name", "desk", "-o", "d.toml", "--month", "2026-11")
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x"]\ndialects = ["d.toml"]\n')
    (tmp_path / "rates.toml").write_text(
        'rate_card = 1\ncurrency = "EUR"\n'
        + "".join(
            f'[[model]]\nname = "{name}"\n[[model.price]]\nfrom = 2026-01-01\ninput = 3\noutput = 15\n'
            for name in ("tern-2", "petrel-mini-1")
        )
    )
    estimated = json.loads(run("estimate", "--rates", "rates.toml", "--month", "2026-11", "-f", "json").out)
    assert [row["calls_month"] for row in estimated["flows"]] == [30.0] * 3
    assert not [row for row in estimated["flows"] if row["cost_month"]["unknown"]]
    assert "tern-2, the value of brain" in run("explain", "Harbour desk 0", "Sort").out
    story = run("explain", "Harbour desk 0").out
    assert "daily at 06:00" in story and "the value of beat" in story
    listed = json.loads(run("list", "variables", "-f", "json").out)
    assert "unused" not in json.dumps([row for row in listed["rows"] if row["name"] in ("brain", "beat")])
    assert "tern-2" in run("inventory").out  # read as an outline
    other = export(0, "object", "locker.")
    other["locker"]["brain"] = "skua-7"
    (tmp_path / "new.json").write_text(json.dumps(other))
    compared = run("diff", "x/0.json", "new.json").out
    assert "tern-2" in compared and "skua-7" in compared and "model" in compared

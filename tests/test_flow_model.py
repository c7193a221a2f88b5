"""The model that a flow names for its steps: read for those that name none, and proposed."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from conftest import Run
from scores import read_with
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.suggest import suggest_dialect

DIALECT = """
dialect = 1
name = "jetty"
signature = { all = ["$.steps"] }
flow = { id = "id", model = "usual.brain" }
step = { at = "$.steps[*]", id = "id", operation = "does", model = "brain" }
link = { at = "$.help[*]", from = "0", to = "1", role = "attach" }
kind = [
  { operation = "ask", kind = "model" },
  { operation = "agent", kind = "agent" },
  { operation = "index", kind = "embed", modality = "embedding" },
  { operation = "look", kind = "read" },
]
"""


def read(*steps: dict[str, Any], usual: Any = "tern-2", **more: Any) -> Flow:
    (flow,) = read_with(
        parse_dialect(DIALECT, "jetty.toml"), [{"id": "f", "usual": {"brain": usual}, "steps": list(steps), **more}]
    )
    return flow


def models(flow: Flow) -> dict[str, str | None]:
    return {step.id: step.model.name for step in flow.steps if step.model is not None}


def test_steps_that_name_no_model_ask_that_of_the_flow() -> None:
    flow = read(
        {"id": "a", "does": "ask"}, {"id": "b", "does": "ask", "brain": "petrel-mini"}, {"id": "c", "does": "agent"},
        {"id": "d", "does": "look"}, {"id": "e", "does": "index"}, {"id": "g", "does": "agent"}, {"id": "h", "does": "ask"},
        help=[["h", "g"]],
    )  # fmt: skip
    # What embeds asks another sort of model, and the agent that a model is attached to asks that.
    assert models(flow) == {"a": "tern-2", "b": "petrel-mini", "c": "tern-2", "e": None, "g": None, "h": "tern-2"}
    assert flow.unread == {} and not flow.content.unread


def test_a_model_of_which_no_step_has_use_stays_unread() -> None:
    flow = read({"id": "a", "does": "ask", "brain": "petrel-mini"}, {"id": "b", "does": "look"})
    assert models(flow) == {"a": "petrel-mini"} and "tern-2" in str(flow.unread) and flow.content.unread == 1
    assert models(read({"id": "a", "does": "ask"}, usual="")) == {"a": None}


def export(at: int) -> dict[str, Any]:
    text = f"Read letter {at} of the passenger and name in one word what it is about, please."
    steps: list[dict[str, Any]] = [
        {"ref": "n0", "caption": "Look", "does": "table.find", "with": {"table": "berths"}},
        {"ref": "n1", "caption": "Sort", "does": "llm.ask", "with": {"prompt": text}, "after": ["n0"]},
        {
            "ref": "n2",
            "caption": "Answer",
            "does": "llm.ask",
            "with": {"prompt": text, "model": "petrel-mini"},
            "after": ["n1"],
        },
        {"ref": "n3", "caption": "Tell", "does": "mail.send", "with": {"to": "crew@ferry.example"}, "after": ["n2"]},
    ]
    usual = ("fulmar-mini-2", "tern-2")[at % 2]
    return {"slug": f"desk-{at}", "title": f"Harbour desk {at}", "defaults": {"model": usual}, "tasks": steps}


def test_the_model_of_the_flow_is_proposed_where_steps_name_none() -> None:
    documents = [export(at) for at in range(12)]
    made = suggest_dialect(documents, "desk")
    assert made is not None and made.dialect.flow.model == "defaults.model"
    assert any("12 steps" in claim.words for claim in made.claims if claim.part == "flow model")
    assert models(read_with(made.dialect, documents)[1]) == {"n1": "tern-2", "n2": "petrel-mini"}
    for one in documents:
        one["data_model"], one["motor"] = "v2", one.pop("defaults")["model"]
    other = suggest_dialect(documents, "desk")
    assert other is not None and other.dialect.flow.model == ""  # a data model and a motor are other things
    for one in documents:
        one["tasks"][1]["with"]["model"] = "petrel-mini"
    own = suggest_dialect(documents, "desk")
    assert own is not None and own.dialect.flow.model == ""


def test_of_several_models_of_a_step_the_first_is_proposed() -> None:
    documents = [export(at) for at in range(12)]
    for one in documents:
        for step in one["tasks"][1:3]:
            step["with"].pop("model", None)
            step["with"]["models"] = ["fulmar-large-2", "petrel-mini"]
    made = suggest_dialect(documents, "desk")
    assert made is not None and made.dialect.step.model == "with.models.0"
    assert any("the first of several" in claim.words for claim in made.claims if claim.part == "model")
    flow = read_with(made.dialect, documents)[0]
    assert models(flow) == {"n1": "fulmar-large-2", "n2": "fulmar-large-2"}  # no model "fulmar-large-2, petrel-mini"
    assert any("petrel-mini" in str(one.value) for step in flow.steps for one in step.inputs)


def test_lists_and_estimates_know_it(run: Run, tmp_path: Path) -> None:
    for at in range(12):
        (tmp_path / f"{at}.json").write_text(json.dumps(export(at)))
    assert run("dialect", "suggest", ".", "--name", "desk", "-o", "desk.toml").code == 0
    listed = json.loads(run("inventory", ".", "--dialect", "desk.toml", "-f", "json").out)
    assert {name for row in listed["flows"] for name in row["models"]} == {"fulmar-mini-2", "petrel-mini", "tern-2"}

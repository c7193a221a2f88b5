"""Bills of materials held against each other, and against flows as they are."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Run
from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.diff.bill_changes import compare_bills
from zeitbuch.core.model.records import Flow, Link, ModelUse, Prompt, Step
from zeitbuch.core.report.bill import bill_of

Json = dict[str, Any]


def letters(id: str = "letters", model: str = "auk-1", prompt: str = "Sort {{text}}") -> Flow:
    use = ModelUse(name=model, prompts=(Prompt(role="system", text=prompt),))
    steps = (Step(id="a", name="Ask", kind="model", model=use), Step(id="b", name="Note", kind="set"))
    return Flow(id=id, name="Letters", steps=steps, links=(Link(source="a", target="b"),))


def bill(*flows: Flow) -> Json:
    return msgspec.json.decode(msgspec.json.encode(bill_of(EstateView(list(flows)), "1.0")))  # type: ignore[no-any-return]


def told(old: Json, new: Json) -> list[tuple[str, str, str, str]]:
    return [(one.state, one.kind, one.fact, f"{one.old} -> {one.new}") for one in compare_bills(old, new).changes]


def test_a_model_and_a_prompt_that_changed_are_told_with_the_flows_that_use_them() -> None:
    found = compare_bills(bill(letters()), bill(letters(model="auk-2", prompt="Sort this: {{text}}")))
    by_kind = {(one.state, one.kind): one for one in found.changes if one.kind != "application"}
    # One model on each side and another name: what went and what came, never one that "was renamed".
    assert by_kind["gone", "machine-learning-model"].part == "auk-1"
    assert by_kind["new", "machine-learning-model"].used_by == ("Letters",)
    assert {state for state, kind in by_kind if kind == "data"} == {"new", "gone"}
    uses = next(one for one in found.changes if one.fact == "uses")
    assert "machine-learning-model auk-1" in uses.old and "machine-learning-model auk-2" in uses.new
    assert found.differ and (found.parts_old, found.parts_new) == (3, 3)


def test_a_flow_of_another_id_is_that_flow() -> None:
    prints, ids = told(bill(letters()), bill(letters(id="L-7")))
    assert prints[2] == "fingerprint" and ids == ("changed", "application", "id", "letters -> L-7")


def part(name: str, **more: Any) -> Json:
    return {"type": "library", "name": name, "bom-ref": more.pop("ref", name), **more}


def test_bills_of_other_makers() -> None:
    """Parts within parts, without references, with hashes, licences and lists of objects; what is in no part does not count."""
    inner = part("rope", hashes=[{"alg": "SHA-256", "content": "0a"}])
    old = {"bomFormat": "CycloneDX", "serialNumber": "1", "components": [part("sail", components=[inner]), {"type": "library", "name": "oar"}]}  # fmt: skip
    changed = part("rope", hashes=[{"alg": "SHA-256", "content": "0b"}], licenses=[{"license": {"id": "MIT"}}])
    new = {"bomFormat": "CycloneDX", "serialNumber": "2", "components": [{"type": "library", "name": "oar"}, changed, part("sail")]}  # fmt: skip
    assert told(old, new) == [
        ("changed", "library", "SHA-256", "0a -> 0b"),
        ("changed", "library", "licenses", ' -> {"license": {"id": "MIT"}}'),
    ]
    assert told({}, {}) == [] and told({"components": "none"}, {"services": [3]}) == []


@given(st.lists(st.sampled_from("abcdef"), unique=True), st.lists(st.sampled_from("abcdef"), unique=True), st.integers(0, 99))  # fmt: skip
@settings(max_examples=60)
def test_what_came_and_went_is_told_once_whatever_the_order(first: list[str], second: list[str], seed: int) -> None:
    draw = random.Random(seed)
    old, new = ({"components": [part(name, version="1") for name in names]} for names in (first, second))
    found = compare_bills(old, new)
    assert {one.part for one in found.changes if one.state == "new"} == set(second) - set(first)
    assert {one.part for one in found.changes if one.state == "gone"} == set(first) - set(second)
    assert len(found.changes) == len(set(first) ^ set(second))
    draw.shuffle(new["components"])
    assert compare_bills(old, new) == found
    back = compare_bills(new, old)
    assert {(one.part, one.state) for one in back.changes} == {
        (one.part, {"new": "gone", "gone": "new"}[one.state]) for one in found.changes
    }


def test_the_program_holds_a_bill_against_flows(demo: Path, run: Run) -> None:
    run("inventory", "october", "--format", "cyclonedx", "-o", "approved.cdx.json", cwd=demo)
    same = run("diff", "approved.cdx.json", "october", cwd=demo)
    assert same.code == 0 and "nothing differs" in same.out
    run("inventory", "november", "--format", "cyclonedx", "-o", "now.cdx.json", cwd=demo)
    files = run("diff", "approved.cdx.json", "now.cdx.json", "--format", "json", cwd=demo)
    assert files.code == 1 and files.out == run("diff", "approved.cdx.json", "november", "-f", "json", cwd=demo).out
    assert files.out == run("diff", "approved.cdx.json", "-f", "json", cwd=demo).out  # the workspace's flows
    body = json.loads(files.out)
    boards = next(one for one in body["changes"] if one["part"] == "Berth boards")
    assert (boards["state"], boards["kind"], boards["used_by"]) == ("new", "service", ["Berth delay notices"])
    prompts = [one for one in body["changes"] if one["kind"] == "data"]
    assert {one["state"] for one in prompts} == {"new", "gone"} and all(len(one["ref"]) > 64 for one in prompts)
    shown = run("diff", "approved.cdx.json", "now.cdx.json", cwd=demo).out
    assert "98 parts before, 99 after: 3 new, 10 changed, 2 gone." in shown
    assert prompts[0]["ref"] not in shown and prompts[0]["ref"].split(":")[1][:12] in shown


def test_secrets_in_a_bill_come_out_nowhere_and_their_change_is_told(tmp_path: Path, run: Run) -> None:
    secrets = ["Bearer 9fJk2LmQ8vX0aZ7wTyPq", "Bearer 3hGt5RsW1cB6nM4kLdEx"]
    for name, secret in zip("ab", secrets, strict=True):
        row = part("door", properties=[{"name": "authorization", "value": secret}])
        (tmp_path / f"{name}.json").write_text(json.dumps({"bomFormat": "CycloneDX", "components": [row]}))
    for form in ("table", "json", "csv"):
        done = run("diff", "a.json", "b.json", "-f", form)
        assert done.code == 1 and "authorization" in done.out
        assert not [secret for secret in secrets if secret.split()[1] in done.out]


def test_what_is_no_bill_is_refused_by_name(tmp_path: Path, run: Run) -> None:
    (tmp_path / "a.json").write_text('{"bomFormat": "CycloneDX", "components": []}')
    for text, words in (('{"bomFormat": "other"}', "found 'other'"), ('{"bomFormat": ', "complete JSON")):
        (tmp_path / "b.json").write_text(text)
        done = run("diff", "a.json", "b.json")
        assert done.code == 2 and "b.json" in done.err and words in done.err
    done = run("diff", "a.json", "a.json", "--only", "model")
    assert done.code == 2 and "expected no --only beside bills of materials" in done.err
    assert run("diff", "a.json", "gone.json").code == 2

# ruff: noqa: E501
"""Findings where flows are drawn, described, compared and recorded."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from conftest import Run

FLOW: dict[str, Any] = {
    "id": "f", "name": "Refunds", "description": "Pays.", "owners": ["Maren Dahl"], "triggers": [{"id": "t", "kind": "form"}],
    "steps": [{"id": "a", "kind": "http", "name": "Call the till", "inputs": [{"name": "phone", "value": "12"}]}, {"id": "b", "kind": "approve", "name": "Agree", "approval": {"silence": "approves"}}],
    "links": [{"source": "t", "target": "a"}, {"source": "a", "target": "b"}],
}  # fmt: skip


def write(path: Path, phone: str, silence: str) -> None:
    flow = json.loads(json.dumps(FLOW))
    flow["steps"][0]["inputs"][0]["value"] = phone
    flow["steps"][1]["approval"]["silence"] = silence
    path.write_text(json.dumps({"zeitbuch": 1, "flows": [flow]}))


def test_a_comparison_says_what_came_and_went(tmp_path: Path, run: Run) -> None:
    write(tmp_path / "old.json", "12", "approves")
    write(tmp_path / "new.json", "CHANGE_ME", "rejects")
    text = run("diff", "old.json", "new.json").out
    assert "Findings: 1 new (1 high) and 1 gone (1 high)." in text
    assert "+ high: Refunds: ‘Call the till’ (input phone) holds ‘CHANGE_ME’ [placeholder-text]" in text
    assert "− high: Refunds: ‘Agree’ is taken as approved when nobody answers [approval-by-silence]" in text
    told = json.loads(run("diff", "old.json", "new.json", "-f", "json").out)["findings"]
    assert [one["code"] for one in told["new"]] == ["placeholder-text"] and [one["code"] for one in told["gone"]] == [
        "approval-by-silence"
    ]
    assert "Findings:" in run("diff", "old.json", "new.json", "-f", "markdown").out
    assert "Findings: 1 new (1 high) and 1 gone (1 high)." in run("diff", "old.json", "new.json", "--summary").out
    assert "Findings:" not in run("diff", "old.json", "new.json", "--no-checks").out
    (tmp_path / "zeitbuch.toml").write_text('[[accept]]\ncode = "placeholder-text"\nreason = "till May"\nby = "x"\n')
    assert "Findings: 1 gone (1 high)." in run("diff", "old.json", "new.json").out


def test_the_history_of_a_flow_says_it_too(tmp_path: Path, run: Run) -> None:
    (tmp_path / "in").mkdir()
    for phone, silence in (("12", "approves"), ("CHANGE_ME", "rejects")):
        write(tmp_path / "in" / "x.json", phone, silence)
        assert run("record", "in").code == 0
    rows = json.loads(run("history", "Refunds", "--now", "-f", "json").out)["rows"]
    assert [row["findings_now"] for row in rows] == [
        ["+high approval-by-silence"],
        ["+high placeholder-text", "−high approval-by-silence"],
    ]
    assert "findings_now" not in json.loads(run("history", "Refunds", "-f", "json").out)["rows"][0]


def test_maps_documents_and_the_inventory_count_them(tmp_path: Path, run: Run) -> None:
    write(tmp_path / "x.json", "CHANGE_ME", "rejects")
    assert run("map", "x.json", "--show", "findings", "-o", "x.svg").code == 0
    drawn = (tmp_path / "x.svg").read_text()
    assert "1 high" in drawn and "findings: 1 high" in drawn
    run("map", "x.json", "--estate", "--show", "findings", "-o", "e.svg")
    assert "1 high" in (tmp_path / "e.svg").read_text()
    run("map", "x.json", "-o", "x.html")
    page = (tmp_path / "x.html").read_text()
    assert "Open points" in page and "holds ‘CHANGE_ME’" in page
    run("document", "x.json", "-o", "docs", "--format", "markdown")
    text = (tmp_path / "docs" / "f.md").read_text()
    assert "## Open points" in text and "| high | certain | ‘Call the till’ (input phone) holds ‘CHANGE\\_ME’" in text
    (row,) = json.loads(run("inventory", "x.json", "--checks", "-f", "json").out)["flows"]
    assert (row["high"], row["medium"], row["low"]) == (1, 0, 0)
    assert json.loads(run("inventory", "x.json", "-f", "json").out)["flows"][0]["high"] is None
    write(tmp_path / "x.json", "12", "rejects")
    run("document", "x.json", "-o", "docs", "--format", "markdown")
    assert "No check found anything that is not accepted" in (tmp_path / "docs" / "f.md").read_text()

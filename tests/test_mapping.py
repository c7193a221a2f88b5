"""Dev against prod: what is called otherwise on purpose is no change, what is meant to differ is allowed for a reason, and what one line
left behind in the other is seen."""

from __future__ import annotations

import copy
import json
import re
from pathlib import Path
from typing import Any

import pytest

from conftest import Run


def step(key: str, **more: Any) -> dict[str, Any]:
    return {"id": key, "kind": "http", "name": key.title(), **more}


def estate(line: str) -> list[dict[str, Any]]:
    """Four flows of one line: ids, connections, accounts, hosts, table ids and addresses are those of the line."""
    mail = {"id": f"c-mail-{line}", "name": f"Mail {line}", "service": "mail", "account": f"robot-{line}@ferry.example"}
    hub = {"id": f"hub-{line}", "name": "Hub", "service": "hub", "account": f"acc-{line}"}
    base = {"dev": "https://api.dev.ferry.example:8443", "prod": "https://api.ferry.example"}[line]
    flows = []
    for n, name in enumerate(("Letters", "Refunds", "Berths", "Notices")):
        flows.append(
            {
                "id": f"{line}-{n}",
                "name": f"{'[DEV] ' if line == 'dev' else ''}{name}",
                "triggers": [{"id": "t", "kind": "schedule", "schedule": {"every": 3600}}],
                "connections": [mail, hub],
                "variables": [{"name": "TABLE", "value": f"tbl_{line}_{n}"}],
                "steps": [
                    step("get", connection=hub["id"], inputs=[{"name": "url", "value": f"{base}/v1/{name.lower()}?x=1"}]),
                    step("ask", kind="model", model={"name": "fulmar", "prompts": [{"role": "system", "text": f"About {name}."}]}),
                    step("put", effect="write", inputs=[{"name": "row", "value": {"sheet": f"sheet-{line}", "at": [f"{base}/rows"]}}]),
                    step("tell", kind="send", effect="send", connection=mail["id"], inputs=[{"name": "to", "value": "desk@ferry.example"}]),
                    step("next", kind="subflow", calls=f"{line}-{(n + 1) % 4}"),
                ],
                "links": [
                    {"source": a, "target": b} for a, b in (("t", "get"), ("get", "ask"), ("ask", "put"), ("put", "tell"), ("tell", "next"))
                ],
            }
        )  # fmt: skip
    return flows


MAPPING = """
[[same]]
what = "connection"
names = ["c-mail-dev", "Mail prod"]
[[same]]
what = "connection"
names = ["hub-dev", "hub-prod"]
[[same]]
what = "host"
names = ["api.dev.ferry.example:8443", "api.ferry.example"]
[[same]]
what = "variable"
names = ["TABLE"]
[[same]]
what = "text"
names = ["sheet-dev", "sheet-prod"]
[[same]]
what = "text"
names = ["[DEV] ", ""]
"""
FLOWS = "".join(f'[[same]]\nwhat = "flow"\nnames = ["dev-{n}", "prod-{n}"]\n' for n in range(4))


def write(folder: Path, name: str, flows: list[dict[str, Any]]) -> None:
    (folder / name).mkdir(exist_ok=True)
    for flow in flows:
        (folder / name / f"{flow['name'].rpartition(' ')[2].lower()}.json").write_text(
            json.dumps({"zeitbuch": 1, "flows": [flow]})
        )


@pytest.fixture
def lines(tmp_path: Path) -> Path:
    write(tmp_path, "dev", estate("dev"))
    write(tmp_path, "prod", estate("prod"))
    (tmp_path / "map.toml").write_text(MAPPING + FLOWS)
    return tmp_path


def told(run: Run, *words: str) -> list[tuple[str, str]]:
    flows = json.loads(run(*words, "-f", "json").out)["flows"]
    return [(flow["name"], change["type"]) for flow in flows for change in flow["changes"]]


def test_only_the_real_change_is_told(lines: Path, run: Run) -> None:
    assert len(told(run, "diff", "dev", "prod")) > 12
    for words in (["dev", "prod"], ["prod", "dev"]):
        assert told(run, "diff", *words, "--mapping", "map.toml") == []
    changed = copy.deepcopy(estate("prod"))
    changed[1]["steps"][1]["model"]["name"] = "fulmar-mini"
    write(lines, "prod", changed)
    assert told(run, "diff", "dev", "prod", "--mapping", "map.toml") == [("Refunds", "model")]
    assert told(run, "diff", "prod", "dev", "--mapping", "map.toml") == [("Refunds", "model")]
    ran = run("diff", "dev", "prod", "--mapping", "map.toml")
    assert ran.code == 1 and "1 flow changed, 3 unchanged" in ran.out and not ran.err
    # The same from two lines of a book.
    for line in ("dev", "prod"):
        run("record", line, "--line", line)
    assert told(run, "diff", "@dev:latest", "@prod:latest", "--mapping", "map.toml") == [("Refunds", "model")]


def test_without_ids_of_flows_they_are_matched_by_name_and_content(lines: Path, run: Run) -> None:
    (lines / "map.toml").write_text(MAPPING)
    assert told(run, "diff", "dev", "prod", "--mapping", "map.toml") == []


def test_what_one_line_left_in_the_other_is_seen(lines: Path, run: Run) -> None:
    """A flow that was carried over and still calls the host of dev, by the account of dev."""
    changed = copy.deepcopy(estate("prod"))
    changed[0]["steps"][0]["inputs"][0]["value"] = "https://api.dev.ferry.example:8443/v1/letters?x=1"
    changed[2]["connections"][0] = estate("dev")[0]["connections"][0]
    changed[2]["steps"][3]["connection"] = "c-mail-dev"
    write(lines, "prod", changed)
    found = told(run, "diff", "dev", "prod", "--mapping", "map.toml")
    assert ("Letters", "endpoint") in found and ("Berths", "connection") in found, found
    assert {name for name, _ in found} == {"Letters", "Berths"}


def test_differences_are_allowed_for_a_reason_until_a_day(lines: Path, run: Run) -> None:
    changed = copy.deepcopy(estate("prod"))
    for flow in changed[:2]:
        flow["triggers"][0]["schedule"]["every"] = 86400
    changed[3]["steps"][1]["model"]["name"] = "fulmar-mini"
    write(lines, "prod", changed)
    entry = '[[allowed]]\ntype = "schedule"\nflow = "{}"\nreason = "dev runs hourly so that faults show early"\nby = "Maren Dahl"\n{}'
    every = MAPPING + FLOWS + entry.format("*", "until = 2999-01-01\n")
    (lines / "map.toml").write_text(every)
    assert told(run, "diff", "dev", "prod", "--mapping", "map.toml") == [("Notices", "model")]
    ran = run("diff", "dev", "prod", "--mapping", "map.toml")
    assert "Allowed and not shown: 2 changes by Maren Dahl until 2999-01-01 (dev runs hourly" in ran.out
    assert ran.out.startswith("1 flow changed, 3 unchanged")
    (lines / "map.toml").write_text(MAPPING + FLOWS + entry.format("refunds", ""))
    found = told(run, "diff", "dev", "prod", "--mapping", "map.toml")
    assert sorted(found) == [("Letters", "schedule"), ("Notices", "model")]
    # Out of date: nothing is allowed, and that is told.
    (lines / "map.toml").write_text(MAPPING + FLOWS + entry.format("*", "until = 2026-01-01\n"))
    ran = run("diff", "dev", "prod", "--mapping", "map.toml")
    assert ran.out.startswith("3 flows changed, 1 unchanged") and "allowed until 2026-01-01 by Maren Dahl" in ran.err


def test_entries_that_fit_nothing_are_told(lines: Path, run: Run) -> None:
    (lines / "map.toml").write_text(
        MAPPING
        + '[[same]]\nwhat = "host"\nnames = ["a.example", "b.example"]\n'
        + '[[same]]\nwhat = "account"\nnames = ["x", "y"]\n'
        + '[[allowed]]\ntype = "prompt"\nreason = "words"\nby = "Ola Tveit"\n'
    )
    ran = run("diff", "dev", "prod", "--mapping", "map.toml")
    assert (
        ran.err.count("[mapping-idle]") == 3
        and "map.toml:20" in ran.err
        and "expected a host that is called 'a.example'" in ran.err
    )


def test_the_mapping_of_the_docs_is_one() -> None:
    import tomllib

    import msgspec

    from test_docs import ROOT
    from zeitbuch.core.diff.mapping import Mapping, mapping_problems

    (text,) = re.findall(r"```toml\n(.*?)```", (ROOT / "docs" / "versions.md").read_text(), re.DOTALL)
    mapping = msgspec.convert(tomllib.loads(text), Mapping)
    assert len(mapping.same) == 4 and not mapping_problems(mapping)


BAD = (
    ('[[same]]\nwhat = "host"\nnames = ["a"]\n', "expected 2 different names"),
    ('[[same]]\nwhat = "host"\nnames = ["a", "a"]\n', "expected 2 different names"),
    ('[[same]]\nwhat = "colour"\nnames = ["a", "b"]\n', "mapping-key"),
    ('[[same]]\nnames = ["a", "b"]\n', "mapping-key"),
    ('[[allowed]]\nreason = ""\nby = "x"\n', "mapping-reason"),
    ('[[allowed]]\nreason = "x"\nby = "x"\ntype = "modle"\n', "mapping-type"),
    ('[[allowed]]\nreason = "x"\nby = "x"\nuntil = "soon"\n', "mapping-key"),
    ("[[same\n", "mapping-syntax"),
)


@pytest.mark.parametrize(("text", "wanted"), BAD)
def test_bad_mappings(lines: Path, run: Run, text: str, wanted: str) -> None:
    (lines / "map.toml").write_text(text)
    ran = run("diff", "dev", "prod", "--mapping", "map.toml")
    assert ran.code == 2 and wanted in ran.err and "map.toml" in ran.err and not ran.out, ran
    assert "mapping-unreadable" in run("diff", "dev", "prod", "--mapping", "nowhere.toml").err

"""Plug-ins: the example package of the docs, built and used; what is wrong with a plug-in is named; the conformance kit."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from conftest import ESTATE, Ran
from zeitbuch.core.model.records import Content, Flow, Link, Origin, Step
from zeitbuch.readers.standards import native
from zeitbuch.readers.standards.agentspec import reader as agentspec
from zeitbuch.readers.standards.arazzo import reader as arazzo
from zeitbuch.readers.standards.serverless import reader as serverless
from zeitbuch.testing import check_reader

EXAMPLE = Path(__file__).parent.parent / "docs" / "plugin-example"
QUAY = {
    "quay": 1,
    "runs": [
        {
            "key": "night-watch",
            "label": "Night watch",
            "steps": [
                {"key": "look", "label": "Look at the log", "by": "log.read", "then": "sum"},
                {
                    "key": "sum",
                    "label": "Sum up",
                    "by": "pen",
                    "asks": "fulmar-mini-2",
                    "text": "Sum up the log.",
                    "hue": 3,
                },
            ],
        }
    ],
}
TIDE = "quay = 1\nruns.0.key = ebb\nruns.0.label = Ebb\nruns.0.steps.0.key = wait\nruns.0.steps.0.label = Wait\n"


@pytest.fixture(scope="session")
def packages(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the example package, built and installed."""
    folder = tmp_path_factory.mktemp("packages")
    command = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "-q",
        "--no-deps",
        "--no-build-isolation",
        "--target",
        str(folder),
    ]
    subprocess.run([*command, str(EXAMPLE)], check=True, capture_output=True)
    return folder


def broken(folder: Path, group: str, target: str, code: str) -> Path:
    """A package with one entry point of a group."""
    info = folder / "zeitbuch_broken-1.0.dist-info"
    info.mkdir(parents=True)
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: zeitbuch-broken\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(f"[zeitbuch.{group}]\nbroken = {target}\n")
    (folder / "broken_plugin.py").write_text(code)
    return folder


def test_the_example_package_is_read_decoded_written_and_listed(packages: Path, tmp_path: Path, run: Any) -> None:
    (tmp_path / "exports").mkdir()
    (tmp_path / "exports" / "watch.json").write_text(json.dumps(QUAY))
    (tmp_path / "exports" / "ebb.tide").write_text(TIDE)
    before: Ran = run("inventory", "exports")
    assert before.code == 2 and "unrecognised" in before.err and "Ebb" not in before.out
    path = {"PYTHONPATH": str(packages)}
    # What was unrecognised before the package was there is not served from the cache now.
    after: Ran = run("inventory", "exports", "-f", "csv", **path)
    assert after.code == 0 and "Night watch" in after.out and "Ebb" in after.out, after.err
    lines = run("inventory", "exports", "-o", "flows.lines", **path)
    assert lines.code == 0 and "name='Night watch'" in (tmp_path / "flows.lines").read_text()
    listed = json.loads(run("list", "plugins", "-f", "json", **path).out)["plugins"]
    assert [(p["group"], p["name"], p["package"], p["version"]) for p in listed] == [
        ("zeitbuch.formats", "quay", "zeitbuch-quay", "1.0"),
        ("zeitbuch.decoders", "tide", "zeitbuch-quay", "1.0"),
        ("zeitbuch.outputs", "lines", "zeitbuch-quay", "1.0"),
        ("zeitbuch.checks", "quay", "zeitbuch-quay", "1.0"),
    ]
    checked = json.loads(run("check", "exports", "-f", "json", **path).out)
    assert "quay-no-limit" in {one["code"] for one in checked["findings"]}
    assert "has no time limit" in run("check", "exports", "--only", "quay-no-limit", **path).out
    assert "holds up the whole quay" in run("check", "--explain", "quay-no-limit", **path).out
    assert "no package adds anything" in run("list", "plugins").out
    (tmp_path / "exports" / "bad.tide").write_text("no equals sign")
    bad = run("inventory", "exports", **path)
    assert bad.code == 2 and "Night watch" in bad.out and "bad.tide" in bad.err and "expected path = value" in bad.err


def test_plugins_read_what_stands_inside_others_and_what_no_suffix_names(
    packages: Path, tmp_path: Path, run: Any
) -> None:
    path = {"PYTHONPATH": str(packages)}
    outer = {
        "zeitbuch": 1,
        "flows": [{"id": "outer", "triggers": [{"id": "t", "kind": "manual"}], "steps": [
            {"id": "run", "kind": "tool", "inputs": [{"name": "definition", "value": json.dumps(QUAY)}]}]}],
    }  # fmt: skip
    (tmp_path / "outer.json").write_text(json.dumps(outer))
    found = run("inventory", "outer.json", "-f", "csv", **path)
    assert found.code == 0 and "Night watch" in found.out, found.err
    assert "Night watch" not in run("inventory", "outer.json", "-f", "csv").out
    (tmp_path / "ebb").write_text(TIDE)
    shown = run("inventory", "ebb", "-f", "csv", **path)
    assert shown.code == 0 and "Ebb" in shown.out, shown.err
    assert "Ebb" in run("inventory", "-", "-f", "csv", stdin=TIDE.encode(), **path).out


def test_no_dialect_is_proposed_for_what_is_read_already(packages: Path, tmp_path: Path, run: Any) -> None:
    (tmp_path / "watch.json").write_text(json.dumps(QUAY))
    said = run("dialect", "suggest", "watch.json", "-o", "made.toml", PYTHONPATH=str(packages))
    assert said.code == 2 and "in the form 'quay'" in said.err and not (tmp_path / "made.toml").exists()
    (tmp_path / "flow.json").write_text('{"zeitbuch": 1, "flows": []}')
    assert "in the form 'native'" in run("dialect", "suggest", "flow.json").err


@pytest.mark.parametrize(
    ("group", "target", "code", "said"),
    [
        ("formats", "broken_plugin", "raise RuntimeError('no luck')", "RuntimeError: no luck"),
        ("formats", "broken_plugin:gone", "", "AttributeError"),
        ("formats", "broken_plugin", "def recognises(d): return True\n", "found no flows"),
        ("formats", "broken_plugin", "def recognises(d): 1 / 0\ndef flows(*_): return []", "ZeroDivisionError"),
        ("formats", "broken_plugin", "def recognises(d): return True\ndef flows(*_): yield 7", "TypeError"),
        (
            "formats",
            "broken_plugin",
            "from zeitbuch.core.model.records import Flow, Step\ndef recognises(d): return True\n"
            "def flows(*_): yield Flow('f', steps=(Step('s', kind='conjure'),)), []",
            "Invalid enum value 'conjure'",
        ),
        ("decoders", "broken_plugin", "def decode(*_): return {}", "expected SUFFIXES"),
        ("outputs", "broken_plugin:row", "row = 7", "expected an OutputRow"),
    ],
)
def test_what_is_wrong_with_a_plugin_is_named(
    group: str, target: str, code: str, said: str, tmp_path: Path, run: Any
) -> None:
    folder = broken(tmp_path / "site", group, target, code)
    (tmp_path / "x.json").write_text('{"of": "nobody"}')
    if group == "formats":
        ran = run("inventory", "x.json", PYTHONPATH=str(folder))
        assert ran.code == 2 and "[plugin]" in ran.err and said in ran.err and "Traceback" not in ran.err, ran.err
        assert "zeitbuch-broken" in ran.err or "broken_plugin" in ran.err
    listed = run("list", "plugins", PYTHONPATH=str(folder))
    if "yield" not in code and "1 / 0" not in code:
        assert listed.code == 2 and said in listed.err and "no" in listed.out.split()


class Good:
    """A reader that keeps to everything."""

    @staticmethod
    def recognises(document: Any) -> bool:
        return isinstance(document, dict) and "good" in document

    @staticmethod
    def flows(document: Any, base: Origin, count: int) -> Any:
        step = Step("s", kind="http", origin=base.at("/good"))
        yield Flow("f", format="good", steps=(step,), content=Content(count, 0), origin=base.at("/good")), []


def faulty(**more: Any) -> Any:
    fields = {"format": "good", "content": Content(1, 0), "origin": Origin("x", "/good"), **more}

    class Faulty(Good):
        @staticmethod
        def flows(document: Any, base: Origin, count: int) -> Any:
            yield Flow(fields.pop("id", "f"), **fields), []

    return Faulty


@pytest.mark.parametrize(
    ("reader", "said"),
    [
        (
            type("R", (Good,), {"recognises": staticmethod(lambda d: True)}),
            "expected recognises() to give False for None",
        ),
        (type("R", (Good,), {"recognises": staticmethod(lambda d: "good" in d)}), "without TypeError"),
        (type("R", (Good,), {"flows": staticmethod(lambda *_: 1 / 0)}), "without ZeroDivisionError"),
        (type("R", (Good,), {"flows": staticmethod(lambda *_: iter(()))}), "at least one flow"),
        (faulty(format=""), "the name of its format"),
        (faulty(origin=None), "expected an origin on 'f'"),
        (faulty(origin=Origin("x", "/bad/3")), "to point into the document"),
        (faulty(content=Content(1, 2)), "at most as many unread values"),
        (faulty(steps=(Step("s", kind="conjure", origin=Origin("x", "/good")),)), "Invalid enum value 'conjure'"),  # type: ignore[arg-type]
        (faulty(links=(Link("a", "b"),)), "expected a link between known steps"),
    ],
)
def test_the_kit_finds_what_does_not_conform(reader: Any, said: str) -> None:
    check_reader(Good, [{"good": 1}])
    with pytest.raises(AssertionError) as caught:
        check_reader(reader, [{"good": 1}])
    assert said in str(caught.value)


def test_the_example_and_the_readers_of_the_house_conform(packages: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import yaml

    monkeypatch.syspath_prepend(str(packages))
    from zeitbuch_quay import quay_format  # type: ignore[import-not-found]

    check_reader(quay_format, [QUAY])
    folder = ESTATE / "november" / "standards"
    check_reader(agentspec, [json.loads((folder / "harbour-desk.json").read_text())])
    for path in folder.glob("*.yaml"):
        document = yaml.safe_load(path.read_text())
        check_reader(serverless if serverless.recognises(document) else arazzo, [document])
    assert native.is_native({"zeitbuch": 1})

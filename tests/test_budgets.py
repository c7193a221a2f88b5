"""What an input may cost is counted before it is spent; what is refused names the limit; the rest is processed."""

from __future__ import annotations

import gzip
import io
import json
import re
import tarfile
import zipfile
from pathlib import Path
from typing import Any

import pytest

from builders import chain, step
from conftest import Run
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.readers.input.decode import decode_bytes
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.packages import package_members
from zeitbuch.readers.reading.validated import validate_flow
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.theme.fonts import measure_text

FLOW: dict[str, Any] = {"zeitbuch": 1, "flows": [{"id": "a", "triggers": [{"id": "t", "kind": "manual"}]}]}


def tar_of(*members: tuple[str, bytes, dict[str, str]]) -> bytes:
    held = io.BytesIO()
    with tarfile.open(fileobj=held, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for name, data, headers in members:
            info = tarfile.TarInfo(name)
            info.size, info.pax_headers = len(data), headers
            archive.addfile(info, io.BytesIO(data))
    return held.getvalue()


def codes(data: bytes, limits: Limits) -> list[str]:
    """The messages of a package's members."""
    return [
        item.data.code for item in package_members("a.tar", data, limits) if not isinstance(item.data, bytes | None)
    ]


def test_headers_of_a_package_are_counted_before_they_are_read() -> None:
    """A packed archive of 0.8 MB took 800 MB and a minute: only what describes its members was large."""
    data = gzip.compress(tar_of(*[(f"{n}.json", b"{}", {"comment": "x" * 300_000}) for n in range(10)]))
    assert len(data) < 30_000
    assert codes(data, Limits()) == []
    (item,) = [
        item for item in package_members("a.tar", data, Limits(headers=1_000_000)) if not isinstance(item.data, bytes)
    ]
    assert item.data is not None and not isinstance(item.data, bytes) and "headers=1000000" in item.data.message


def test_many_small_headers_are_counted_too() -> None:
    """Fifty thousand members with a small extended header each are within the limit, headers after headers without end are not."""
    data = tar_of(*[(f"{n}.json", b"{}", {"mtime": "1.5"}) for n in range(200)])
    assert codes(data, Limits(headers=200 * 4 * 64)) == []
    assert codes(data, Limits(headers=200 * 2 * 64)) == ["limit"]


def test_sparse_members_are_refused() -> None:
    """7 KB of a sparse member are gigabytes once they are read."""
    size = "3600000000"
    headers = {"GNU.sparse.major": "0", "GNU.sparse.minor": "1", "GNU.sparse.map": f"{size},0", "GNU.sparse.size": size}
    assert codes(tar_of(("a.json", b"", headers)), Limits()) == ["package"]


def test_a_book_with_a_sparse_member_is_refused(tmp_path: Path, run: Run) -> None:
    size = "360000000"
    headers = {"GNU.sparse.major": "0", "GNU.sparse.minor": "1", "GNU.sparse.map": f"{size},0", "GNU.sparse.size": size}
    (tmp_path / "book.tar").write_bytes(tar_of(("book.jsonl", b"", headers)))
    told = run("history", "--import", "book.tar", "--book", "new.sqlite")
    assert told.code == 2 and "[book-archive]" in told.err


def test_entries_of_a_zip_are_counted_before_they_are_listed() -> None:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as archive:
        for number in range(300):
            archive.writestr(f"{number}.json", "{}")
    assert codes(held.getvalue(), Limits(members=299)) == ["limit"]


MERGES = {
    "a chain of merges": "\n".join(
        [
            "a0: &a0 {" + ", ".join(f"k{n}: 1" for n in range(300)) + "}",
            *[f"a{n}: &a{n}\n  <<: *a{n - 1}\n  x: 1" for n in range(1, 2500)],
        ]
    ),
    "one merged often": "a: &a {" + ", ".join(f"k{n}: 1" for n in range(1000)) + "}\nb:\n" + "- <<: *a\n" * 2000,
    "lists of merges": "a: &a {" + ", ".join(f"k{n}: 1" for n in range(1000)) + "}\nb:\n" + "- <<: [*a, *a]\n" * 2000,
}


@pytest.mark.parametrize("case", list(MERGES))
def test_merges_of_yaml_are_counted(case: str) -> None:
    with pytest.raises(ZeitbuchError, match="merged=500000"):
        decode_bytes("a.yaml", MERGES[case].encode(), Limits())


def test_a_merge_within_the_limit_is_merged() -> None:
    text = b"a: &a {x: 1, y: 2}\nb: {<<: *a, z: 3}\nc: {<<: [*a, {w: 4}]}"
    assert decode_bytes("a.yaml", text, Limits()).value["c"] == {"x": 1, "y": 2, "w": 4}


@pytest.mark.parametrize(
    ("limits", "words"),
    [(Limits(steps=4), "steps=4"), (Limits(links=4), "links=4"), (Limits(scopes=2), "scopes=2")],
    ids=["steps", "links", "scopes"],
)
def test_the_size_of_a_flow_is_limited(limits: Limits, words: str) -> None:
    flow = chain(
        step("a", "loop"),
        step("b", "loop", scope="a"),
        step("c", "loop", scope="b"),
        step("d", "loop", scope="c"),
        step("e", "http"),
    )
    assert validate_flow(flow, Limits())[0].steps
    with pytest.raises(ZeitbuchError, match=words):
        validate_flow(flow, limits)


def test_scopes_too_deep_cost_only_their_flow(tmp_path: Path, run: Run) -> None:
    """1,500 steps within steps ended every command in a fault."""
    steps = [
        {"id": "s0", "kind": "loop"},
        *[{"id": f"s{n}", "kind": "loop", "scope": f"s{n - 1}"} for n in range(1, 1500)],
    ]
    deep = {"id": "deep", "triggers": [{"id": "t", "kind": "manual"}], "steps": steps}
    (tmp_path / "a.json").write_text(json.dumps({"zeitbuch": 1, "flows": [deep, *FLOW["flows"]]}))
    for words in (
        ["inventory", "a.json", "-f", "json"],
        ["map", "a.json", "-o", "maps"],
        ["estimate", "a.json"],
        ["document", "a.json", "-o", "d"],
    ):
        told = run(*words)
        assert told.code == 2 and "scopes=100" in told.err and "fault" not in told.err
    assert json.loads(run("inventory", "a.json", "-f", "json").out)["totals"]["flows"] == 1


def test_a_map_of_too_many_lines_is_refused_and_the_flow_documented(tmp_path: Path, run: Run) -> None:
    ids = [f"s{n}" for n in range(2500)]
    steps = [{"id": name, "kind": "code"} for name in ids] + [{"id": "z", "kind": "end"}]
    links = [{"source": "t", "target": name} for name in ids] + [{"source": name, "target": "z"} for name in ids]
    wide = {"id": "wide", "triggers": [{"id": "t", "kind": "manual"}], "steps": steps, "links": links}
    (tmp_path / "a.json").write_text(json.dumps({"zeitbuch": 1, "flows": [wide, *FLOW["flows"]]}))
    told = run("map", "a.json", "-o", "maps")
    assert told.code == 2 and "[map-size]" in told.err and (tmp_path / "maps" / "a.svg").exists()
    told = run("document", "a.json", "-o", "d")
    assert told.code == 2 and "[map-size]" in told.err
    assert "side by side" in (tmp_path / "d" / "wide.html").read_text() and (tmp_path / "d" / "a.html").exists()
    told = run("convert", "a.json", "-f", "bpmn", "-o", "x.bpmn")
    assert told.code == 2 and "[map-size]" in told.err, told.err


def test_decisions_within_six_hundred_decisions_are_shown(tmp_path: Path, run: Run) -> None:
    steps, links = [], [{"source": "t", "target": "d0"}]
    for n in range(600):
        steps += [{"id": f"d{n}", "kind": "decide"}, {"id": f"e{n}", "kind": "send"}]
        links.append({"source": f"d{n}", "target": f"e{n}", "role": "case", "label": "no"})
        links += [{"source": f"d{n}", "target": f"d{n + 1}", "role": "case", "label": "yes"}] * (n < 599)
    deep = {"id": "deep", "triggers": [{"id": "t", "kind": "manual"}], "steps": steps, "links": links}
    (tmp_path / "a.json").write_text(json.dumps({"zeitbuch": 1, "flows": [deep]}))
    told = run("map", "a.json", "-f", "text")
    assert told.code == 0 and all(re.search(rf" {key}\b", told.out) for key in ("d599", "e599", "e100", "e101")), (
        told.err
    )
    assert "[fault]" not in run("document", "a.json", "-o", "d").err and (tmp_path / "d" / "deep.html").exists()


@pytest.mark.parametrize("where", ["draw_scene", "to_svg"])
def test_a_fault_in_one_flow_does_not_end_the_run(
    where: str, tmp_path: Path, capfd: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    from zeitbuch.cli.main import main

    def fails(graph: Graph, *rest: Any) -> Any:
        if graph.flow.id == "bad":
            raise RuntimeError("odd")
        return draw_scene(graph, measure_text)

    def fails_late(scene: Any, inline: bool = False) -> str:
        if not scene.cards[1:]:
            raise RuntimeError("odd")
        return to_svg(scene, inline)

    monkeypatch.setattr(f"zeitbuch.app.document.{where}", fails if where == "draw_scene" else fails_late)
    monkeypatch.chdir(tmp_path)
    bad = {"id": "bad", "triggers": [{"id": "t", "kind": "manual"}]}
    (tmp_path / "a.json").write_text(json.dumps({"zeitbuch": 1, "flows": [bad, *FLOW["flows"]]}))
    assert main(["document", "a.json", "-o", "d", "--no-cache"]) == 2
    assert "could not draw 'bad', found RuntimeError: odd" in capfd.readouterr().err
    assert (tmp_path / "d" / "bad.html").exists() and (tmp_path / "d" / "a.html").exists()


def test_a_comparison_says_what_it_leaves_out(
    tmp_path: Path, capfd: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    from zeitbuch.cli.main import main

    monkeypatch.chdir(tmp_path)
    for name, price in (("a", "2"), ("b", "3")):
        steps = [
            {
                "id": f"s{n}",
                "kind": "http",
                "timeout": n + 1,
                "inputs": [{"name": "x", "value": 1}, {"name": "y", "value": n}],
            }
            for n in range(4)
        ]
        steps[0]["retry"] = {"attempts": int(price)}
        links = [{"source": "t", "target": "s0"}, *({"source": f"s{n}", "target": f"s{n + 1}"} for n in range(3))]
        flow = {"id": "a", "triggers": [{"id": "t", "kind": "manual"}], "steps": steps, "links": links}
        (tmp_path / f"{name}.json").write_text(json.dumps({"zeitbuch": 1, "flows": [flow]}))
    assert main(["diff", "a.json", "b.json", "--no-cache"]) == 1
    assert "diff-size" not in capfd.readouterr().err
    monkeypatch.setattr("zeitbuch.core.diff.change_cost.MOST_WORK", 3)
    assert main(["diff", "a.json", "b.json", "--no-cache"]) == 1
    assert "share of each of 1 change in 4 steps" in capfd.readouterr().err
    monkeypatch.setattr("zeitbuch.core.diff.clones.MOST_UNITS", 3)
    main(["diff", "a.json", "--clones", "--no-cache"])
    assert "found 1 more: not compared [diff-size]" in capfd.readouterr().err

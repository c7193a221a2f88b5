"""`dialect suggest` on exports of builders never seen: random key names, five shapes."""

from __future__ import annotations

import ast
import json
import re
from collections import Counter
from pathlib import Path

import pytest
import yaml

from conftest import ESTATE, Run, draws
from exports import OPERATIONS, SHAPES, TRIGGERS, Maker
from scores import PARTS, read_with, score, shares
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.spell import spell_dialect
from zeitbuch.readers.infer.suggest import suggest_dialect
from zeitbuch.readers.infer.vocabulary import guess_kinds, known_hints

ROOT = Path(__file__).parent.parent
WANTED = {"steps": 0.98, "links": 0.95, "triggers": 0.95, "prompts": 0.95, "models": 0.95, "kinds": 0.90}


@pytest.mark.parametrize("shape", SHAPES)
def test_exports_never_seen_are_read(shape: str) -> None:
    total: Counter[str] = Counter()
    for seed in range(draws(12, 25)):
        total += score(Maker(seed, shape).export())
    found = shares(total)
    assert total["steps wanted"] > draws(330, 700)
    for part in PARTS:
        assert min(found[part]) >= WANTED[part], (shape, part, found)


@pytest.mark.parametrize(
    ("shape", "variant"),
    [
        ("records", "keyed"), ("records", "split"), ("records", "shuffled"), ("records", "codes"), ("adjacency", "shuffled"),
        ("tree", "split"), ("pointers", "keyed"), ("pointers", "codes"), ("predecessors", "split"), ("tree", "worded"), ("adjacency", "worded"),
    ],
)  # fmt: skip
def test_other_ways_of_writing_are_read(shape: str, variant: str) -> None:
    total: Counter[str] = Counter()
    for seed in range(draws(5, 8)):
        total += score(Maker(seed, shape, variant).export())
    found = shares(total)
    for part in PARTS:
        assert min(found[part]) >= WANTED[part], (shape, variant, part, found)


@pytest.mark.parametrize("shape", SHAPES)
def test_a_single_file_is_enough(shape: str) -> None:
    total: Counter[str] = Counter()
    for seed in range(draws(8, 12)):
        total += score(Maker(seed, shape).export(files=1))
    found = shares(total)
    for part in PARTS:
        assert min(found[part]) >= 0.85, (shape, part, found)


@pytest.mark.parametrize("shape", SHAPES)
def test_the_proposed_file_says_the_same_as_the_proposal(shape: str) -> None:
    made = suggest_dialect(Maker(5, shape).export().documents, "probe")
    assert made is not None
    text = spell_dialect(made, ["a.json"])
    assert parse_dialect(text, "probe.toml") == made.dialect
    assert re.search(r"# \d\d? % sure: steps:", text)


def test_trade_words_in_five_languages() -> None:
    assert {h[3:] for h in known_hints() if h.startswith("on:")} >= set(TRIGGERS)
    for kind, operations in OPERATIONS.items():
        hits = [bool(g := guess_kinds(o)) and g[0].hint == kind for o in operations]
        assert sum(hits) >= 0.8 * len(hits), (kind, [(o, guess_kinds(o)[:2]) for o in operations])
    first = {
        w: guess_kinds(w)[0].hint
        for w in ("schleife", "boucle", "bucle", "ciclo", "verzweigung", "envoyer", "enviar", "zeitplan", "sende_epost")
    }
    assert first["schleife"] == first["boucle"] == first["bucle"] == first["ciclo"] == "loop"
    assert first["verzweigung"] == "decide" and first["envoyer"] == first["enviar"] == "send"
    assert first["zeitplan"] == "on:schedule"


def test_suggest_and_test_from_the_installed_program(tmp_path: Path, run: Run) -> None:
    made = Maker(11, "records").export()
    for i, document in enumerate(made.documents):
        (tmp_path / f"x{i}.json").write_text(json.dumps(document))
    (tmp_path / "other.json").write_text((ESTATE / "november" / "kvarte" / "letters.json").read_text())
    (tmp_path / "broken.json").write_text('{"a": ')
    ran = run("dialect", "suggest", ".", "--name", "quay", "-o", "quay.toml")
    assert ran.code == 2 and "broken.json" in ran.err and "json-syntax" in ran.err
    assert (
        "written in another way (suggest for them apart): 1 file (./other.json)" in ran.err
        and "% sure  steps" in ran.err
    )
    dialect = parse_dialect((tmp_path / "quay.toml").read_text(), "quay.toml")
    assert dialect.name == "quay"
    (tmp_path / "broken.json").unlink()
    ran = run("dialect", "test", ".", "--dialect", "quay.toml", "-f", "json")
    assert ran.code == 2  # other.json is not recognised
    files = {f["source"]: f for f in json.loads(ran.out)["files"]}
    assert files["./other.json"]["flows"] == 0
    assert sum(f["steps"] for f in files.values()) == sum(len(t.steps) for t in made.truths)
    assert "zeitbuch dialect suggest ./other.json" in ran.err
    (tmp_path / "other.json").unlink()
    assert run("dialect", "test", ".", "--dialect", "quay.toml").code == 0
    ran = run("dialect", "suggest", ".", "--name", "quay", "-o", "late.toml", "--month", "soon")
    assert ran.code == 2 and "expected a month as YYYY-MM" in ran.err and not (tmp_path / "late.toml").exists()


def test_nothing_like_steps_is_said(tmp_path: Path, run: Run) -> None:
    (tmp_path / "x.json").write_text('{"a": [1, 2, 3], "b": {"c": "d"}}')
    ran = run("dialect", "suggest", "x.json")
    assert ran.code == 2 and "[suggest]" in ran.err and ran.out == ""
    ran = run("dialect", "suggest", "nowhere.json")
    assert ran.code == 2 and "[source-missing]" in ran.err


def test_dialect_list_names_place_and_what_is_active(demo: Path, tmp_path: Path, run: Run) -> None:
    user = tmp_path / "config" / "zeitbuch" / "dialects"
    user.mkdir(parents=True)
    (user / "kvarte.toml").write_text((demo / "dialects" / "kvarte.toml").read_text())
    (user / "bad.toml").write_text("dialect = 7")
    ran = run("dialect", "list", "-f", "json", cwd=demo)
    assert ran.code == 2 and "bad.toml" in ran.err
    rows = {(r["name"], r["from"]): r["active"] for r in json.loads(ran.out)["dialects"]}
    assert rows["kvarte", "workspace"] and not rows["kvarte", "user folder"] and not rows["kvarte", "demo"]


def test_documents_of_one_yaml_file_are_all_learnt_from(tmp_path: Path, run: Run) -> None:
    exports = [
        json.loads((ESTATE / f"november/strandline/{name}.json").read_text())
        for name in ("berth-delay", "cargo-papers")
    ]
    (tmp_path / "two.yaml").write_text("---\n".join(yaml.safe_dump(one, sort_keys=False) for one in exports))
    told = run("dialect", "suggest", "two.yaml", "--name", "zwei", "-o", "zwei.toml")
    assert told.code == 0 and "2 flows" in told.err, told.err
    ran = run("inventory", "two.yaml", "--dialect", "zwei.toml", "-f", "json")
    assert json.loads(ran.out)["totals"]["flows"] == 2


def vocabulary_of_inference() -> set[str]:
    """Every word in the word lists of the inference."""
    found: set[str] = set()
    for path in (ROOT / "src" / "zeitbuch" / "readers" / "infer").glob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if (
                isinstance(node, ast.Constant)
                and isinstance(node.value, str)
                and re.fullmatch(r"[\w*\- ]+", node.value)
            ):
                found |= {word.strip("*").lower() for word in node.value.split()}
    return found


def test_no_word_of_the_demo_is_in_the_vocabulary() -> None:
    """The keys of the demo's builders that no trade uses teach the inference nothing."""
    known = vocabulary_of_inference()
    assert len(known) > 1000
    peculiar = set(
        "act alarm anchor anchors aboard berth briefing crew does door drawer engine exits harbour heat jobs keeper keepers leg legs"
        " llm-call longest lines mooring moorings moored orders pilots pilotline plans rota rounds sailings shelf spot stamped station stations talk"
        " tide touched warmth ways".split()
    )
    words = set()
    for path in (ESTATE / "dialects").glob("*.toml"):
        words |= set(re.findall(r"[a-z]+", path.read_text().lower()))
    assert len(peculiar & words) > 20  # most of them are in use there
    assert not (peculiar & known), peculiar & known


def test_order_is_taken_for_links_only_when_nothing_else_is_left_and_then_loudly(tmp_path: Path, run: Run) -> None:
    steps = [
        {"id": f"s{place}", "name": f"Step {place}", "kind": kind, "with": {"text": "x"}}
        for place, kind in enumerate(("mail.send", "http.get", "mail.send", "table.add", "http.get"))
    ]
    for name in ("a", "b"):
        (tmp_path / f"{name}.json").write_text(json.dumps({"flow": name, "steps": steps}))
    ran = run("dialect", "suggest", "a.json", "b.json", cwd=tmp_path)
    assert (
        ran.code == 0
        and "[order]" in ran.out
        and "CHECK THIS: nothing in these exports says how the steps are linked" in ran.out
    )
    assert "nothing links the steps: they are taken to run in the order in which they stand. Check this" in ran.err
    (flow, _) = read_with(
        parse_dialect(ran.out, "made.toml"), [json.loads((tmp_path / f"{name}.json").read_text()) for name in "ab"]
    )
    assert len(flow.links) == 4

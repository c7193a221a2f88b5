"""Rules of the code: rooms, sizes, codes of messages, light start, the public functions."""

from __future__ import annotations

import ast
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import get_args

import pytest

import zeitbuch
from conftest import ESTATE
from zeitbuch.cli.command_table import COMMANDS
from zeitbuch.core.model.message_codes import MessageCode
from zeitbuch.core.model.messages import MESSAGES
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.pricing import token_count

SOURCE = Path(zeitbuch.__file__).parent
ROOT = Path(__file__).parent.parent
FILES = sorted(SOURCE.rglob("*.py"))


def test_every_command_has_its_module() -> None:
    for folder in ("options", "commands"):
        assert {p.stem for p in (SOURCE / "cli" / folder).glob("*.py")} - {"__init__"} == set(COMMANDS)


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_files_stay_small_and_keep_to_their_room(path: Path) -> None:
    text = path.read_text()
    assert len(text.splitlines()) <= 400
    tree = ast.parse(text)
    functions = [node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)]
    assert not [node.name for node in functions if (node.end_lineno or 0) - node.lineno >= 60]
    room = path.relative_to(SOURCE).parts[0]
    names = {n.id for n in ast.walk(tree) if isinstance(n, ast.Name)}
    if room in ("core", "readers", "writers"):
        assert "print" not in names and "sys.exit" not in text and "isatty" not in text
    if room == "core":
        assert "datetime.now" not in text and "time.time" not in text and not names & {"open", "id_of"}


def test_message_codes_are_one_table_and_its_page() -> None:
    used: set[str] = set()
    for path in FILES:
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("fail", "Problem"):
                first = node.args[0]
                if isinstance(first, ast.Constant):
                    used.add(str(first.value))
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "plugin_problem":
                used.add("plugin")
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "TomlKind":
                used |= {str(one.value) for one in node.args[2:5] if isinstance(one, ast.Constant)}
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "_add_problem":
                used.add(str(node.args[1].value))  # type: ignore[attr-defined]
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr == "problem":
                used.add(str(node.args[0].value))  # type: ignore[attr-defined]
    assert used == {row.code for row in MESSAGES} == set(get_args(MessageCode))
    page = (ROOT / "docs" / "messages.md").read_text()
    assert re.findall(r"^## ([a-z0-9-]+)$", page, re.MULTILINE) == sorted(used)
    done = subprocess.run([sys.executable, str(ROOT / ".ci" / "write-pages"), "--check"], check=False)
    assert done.returncode == 0, "docs/messages.md is not what .ci/write-pages makes of the table"


def loaded(code: str) -> set[str]:
    done = subprocess.run(
        [sys.executable, "-c", f"{code}\nimport sys\nprint(*sys.modules)"], capture_output=True, text=True, check=True
    )
    return set(done.stdout.splitlines()[-1].split())


def test_start_is_light() -> None:
    heavy = {
        "msgspec",
        "rich",
        "yaml",
        "numpy",
        "matplotlib",
        "PIL",
        "cronsim",
        "jsonpath_rfc9535",
        "importlib.metadata",
    }
    start = loaded(
        "import zeitbuch.cli.main as m, contextlib\nwith contextlib.suppress(SystemExit): m.main(['--help'])"
    )
    assert not start & heavy
    folder = ESTATE / "november" / "native"
    inventory = loaded(f"import zeitbuch.cli.main as m\nm.main(['inventory', {str(folder)!r}, '-f', 'csv', '-q'])")
    assert not inventory & (heavy - {"msgspec", "yaml"})
    # Budgets stand in the workspace file, which every command reads: nothing of the estimate may come with them.
    assert not inventory & {
        "zeitbuch.core.estimate.estate",
        "zeitbuch.core.passes.exact",
        "zeitbuch.core.pricing.token_count",
        "scipy",
    }


def test_commands_without_samples_load_no_numpy(tmp_path: Path) -> None:
    shutil.copytree(ESTATE, tmp_path / "demo")
    commands = (
        # Pages and documents tell findings, and copies among flows are found with NumPy.
        ["map", "november", "--flow", "letters", "--show", "cost", "-o", "letters.svg", "-q"],
        ["explain", "letters", "--source", "november", "-q", "-o", "letters.md"],
        ["estimate", "november", "--month", "2026-11", "--why", "Customer letters", "-q", "-o", "why.csv"],
    )
    code = f"import zeitbuch.cli.main as m, os\nos.chdir({str(tmp_path / 'demo')!r})\nfor words in {commands!r}: m.main(words)"
    assert not loaded(code) & {"numpy", "scipy", "matplotlib", "multiprocessing", "tarfile"}


def test_public_functions() -> None:
    dialects = [str(p) for p in (ESTATE / "dialects").glob("*.toml")]
    estate = zeitbuch.read(str(ESTATE / "november"), dialects=dialects)
    frame = zeitbuch.inventory(estate).to_frame()
    assert len(frame) == 17 and frame["steps"].sum() == 132
    estimate = zeitbuch.estimate(estate, str(ESTATE / "rates.toml"), str(ESTATE / "assumptions.toml"))
    assert estimate.to_frame()["cost_month"].notna().all() and len(estimate.to_frame(steps=True)) == 132
    assert zeitbuch.diff(zeitbuch.read(str(ESTATE / "october"), dialects=dialects), estate).unchanged == 9
    old = zeitbuch.read(str(ESTATE / "october"), dialects=dialects)
    judged = zeitbuch.diff(old, estate, str(ESTATE / "rates.toml"), str(ESTATE / "assumptions.toml"))
    assert len(judged.to_frame()) == 8 and len(judged.to_frame(changes=True)) == 9
    assert judged.result.flows[0].changes[0].share is not None
    assert zeitbuch.clones(zeitbuch.read(str(ESTATE / "copies")))[0].copies[0].left
    flow = estate.flow("letters")
    assert flow is not None
    assert zeitbuch.explain(flow, "2.3").title == "Refund agent"
    assert zeitbuch.document(flow, estimate).blocks
    assert str(zeitbuch.map(flow)).startswith("<?xml") and "2.3 Refund agent" in str(zeitbuch.map(flow, "text"))
    assert "<svg" in str(zeitbuch.map(estate, by="none", turned=True))
    problems: list[zeitbuch.core.model.problems.Problem] = []
    assert zeitbuch.read(str(ESTATE / "november"), problems=problems).flows and problems
    with pytest.raises(ZeitbuchError):
        zeitbuch.read("nowhere.json")
    with pytest.raises(AttributeError):
        zeitbuch.nothing  # noqa: B018


def test_public_functions_of_the_book(tmp_path: Path) -> None:
    dialects = [str(p) for p in (ESTATE / "dialects").glob("*.toml")]
    book = str(tmp_path / "book.sqlite")
    for month, at in (("october", "2026-10-31"), ("november", "2026-11-24")):
        zeitbuch.record(str(ESTATE / month), book=book, by="Maren Dahl", at=at, dialects=dialects)
    assert not zeitbuch.record(str(ESTATE / "november"), book=book, by="Maren Dahl", dialects=dialects).new
    assert list(zeitbuch.history(book).to_frame()["snapshot"]) == ["@1", "@2"]
    assert list(zeitbuch.history(book, "letters").to_frame()["version"]) == [1, 2]
    raw = (ESTATE / "october" / "kvarte" / "letters.json").read_bytes()
    assert zeitbuch.restore("letters@1", book) == raw
    old, new = (zeitbuch.read(key, dialects=dialects, book=book) for key in ("@1", "@latest"))
    assert zeitbuch.diff(old, new).unchanged == 9


@pytest.mark.parametrize(
    ("text", "low", "high"),
    [
        ("", 0, 0),
        ("Answer with one word: same, maybe or different.", 9, 12),
        ("Extract the invoice number, the invoice date and the net amount.", 11, 15),
        ('{"state": "released", "load": 4711}', 10, 17),
        ("Напишите короткий ответ пассажиру.", 7, 16),
        ("请用一句话回答乘客的问题。", 7, 14),
        ("\n\n   \n", 0, 3),
        ("🚢🚢", 2, 6),
    ],
)
def test_tokens_are_of_the_right_size(text: str, low: float, high: float) -> None:
    assert low <= token_count.count_tokens(text) <= high


def test_tokens_of_a_long_prompt_add_up() -> None:
    text = "Write a notice for waiting passengers: what happened and how long it will take. "
    assert token_count.count_tokens(text * 50) == pytest.approx(50 * token_count.count_tokens(text), rel=0.1)


def test_the_architecture_document_lists_the_rooms_of_the_tree() -> None:
    text = (ROOT / "docs" / "architecture.md").read_text()
    rooms = text[text.index("## The rooms") : text.index("## How a flow travels")]
    listed = set(re.findall(r"`([a-z]+(?:/[a-z_]+)*)`", rooms))
    packages = {str(path.parent.relative_to(SOURCE)) for path in SOURCE.rglob("__init__.py")} - {"."}
    groups = {"core", "readers", "writers", "readers/standards"}
    assert packages - groups <= listed, packages - groups - listed
    paths = {room for room in listed if "/" in room}
    assert all((SOURCE / room).exists() or (SOURCE / f"{room}.py").exists() for room in paths), paths - packages
    for named in set(re.findall(r"`((?:core|readers|writers|app|cli|book|plugins)/[a-z_/]+?)(?:\.[a-z_A-Z]+)?`", text)):
        assert (SOURCE / named).exists() or (SOURCE / f"{named}.py").exists() or named.endswith("NAME"), named


@pytest.mark.parametrize("room", ["core", "readers", "writers"])
def test_no_modules_stand_beside_the_packages(room: str) -> None:
    assert {path.name for path in (SOURCE / room).glob("*.py")} == {"__init__.py"}

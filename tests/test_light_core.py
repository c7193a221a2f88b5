"""What `pip install zeitbuch` alone brings, and what is said where an extra is missing."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest
from packaging.requirements import Requirement
from PIL import ImageFont

from conftest import ESTATE
from zeitbuch.core.model.extras import EXTRAS
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.writers.theme.fonts import FOLDER, measure_text

PROJECT = tomllib.loads((Path(__file__).parent.parent / "pyproject.toml").read_text())["project"]
PACKAGES = {
    "sqlalchemy": "sqlalchemy", "psycopg": "psycopg", "matplotlib": "matplotlib", "PIL": "pillow", "docx": "python-docx", "pandas": "pandas",
    "duckdb": "duckdb", "ibis": "ibis-framework", "pyarrow": "pyarrow", "python_calamine": "python-calamine", "lxml": "lxml", "scipy": "scipy",
    "pyspark": "pyspark", "py4j": "pyspark", "grpc": "grpcio", "tokenizers": "tokenizers",
    "fsspec": "fsspec", "distributed": "distributed", "cloudpickle": "cloudpickle", "faker": "faker",
}  # fmt: skip
BLOCK = f"""
import sys
for name in {[module for extra in EXTRAS for module in extra.modules]}:
    sys.modules[name] = None
"""


def names_of(extra: str) -> set[str]:
    """The packages of an extra, in other extras too."""
    found = set()
    for line in PROJECT["optional-dependencies"][extra]:
        need = Requirement(line)
        found |= set().union(*map(names_of, need.extras)) if need.name == "zeitbuch" else {need.name.lower()}
    return found


@pytest.fixture(scope="module")
def alone(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder whose `sitecustomize` lets nothing of the extras be imported."""
    folder = tmp_path_factory.mktemp("alone")
    (folder / "sitecustomize.py").write_text(BLOCK)
    shutil.copytree(ESTATE, folder / "estate")
    return folder


def run_alone(alone: Path, *words: str, blocked: bool = True) -> subprocess.CompletedProcess[str]:
    env = {**os.environ, "PYTHONPATH": str(alone) if blocked else "", "COLUMNS": "100"}
    command = [sys.executable, "-m", "zeitbuch", *words]
    return subprocess.run(command, cwd=alone / "estate", env=env, capture_output=True, text=True, timeout=300)


def test_every_extra_brings_what_is_said_to_be_in_it_and_nothing_of_it_comes_without() -> None:
    alone = {Requirement(line).name.lower() for line in PROJECT["dependencies"]}
    for extra in EXTRAS:
        wanted = {PACKAGES[module] for module in extra.modules}
        assert wanted <= names_of(extra.name), extra.name
        assert not wanted & alone
    groups = set(PROJECT["optional-dependencies"])
    assert groups - {"all", "test", "dev"} == {extra.name for extra in EXTRAS}
    assert names_of("all") == set().union(*[names_of(extra.name) for extra in EXTRAS if extra.name != "spark"])


WORK = (
    ["inventory"],
    ["map", "--flow", "Customer letters", "-f", "svg"],
    ["map", "--flow", "Customer letters", "-f", "html"],
    ["explain", "Customer letters"],
    ["estimate"],
    ["estimate", "--drivers"],
    ["compare", "--scenario", "scenarios/small-model.toml"],
    ["diff", "october", "november"],
    ["diff", "copies", "--clones"],
    ["check"],
    ["impact", "model:fulmar-mini-2"],
    ["document", "--flow", "Customer letters", "-o", "-"],
)


@pytest.mark.parametrize("words", WORK, ids=" ".join)
def test_what_is_read_compared_checked_estimated_and_drawn_needs_no_extra_and_is_the_same(
    alone: Path, words: list[str]
) -> None:
    found, wanted = run_alone(alone, *words), run_alone(alone, *words, blocked=False)
    assert "library-missing" not in found.stderr and found.returncode in (0, 1), found.stderr
    assert (found.returncode, found.stdout) == (wanted.returncode, wanted.stdout)


@pytest.mark.parametrize(
    ("words", "library", "extra"),
    [
        (["map", "--flow", "Customer letters", "-o", "letters.png"], "PIL", "images"),
        (["estimate", "-o", "cost.png"], "matplotlib", "charts"),
        (["record"], "sqlalchemy", "book"),
        (["record", "--book", "postgresql://somewhere/book"], "sqlalchemy", "book"),
        (["reconcile"], "duckdb", "usage"),
        (["usage", "suggest", "usage/breakwater.csv"], "scipy", "usage"),
        (["calibrate"], "duckdb", "usage"),
        (["document", "--flow", "Customer letters", "-o", "letters.docx"], "docx", "word"),
        (["document", "-o", "all.docx"], "docx", "word"),
        (["brief", "Customer letters"], "faker", "brief"),
    ],
    ids=lambda value: " ".join(value) if isinstance(value, list) else "",
)
def test_a_missing_library_is_one_line_with_the_command_that_brings_it(
    alone: Path, words: list[str], library: str, extra: str
) -> None:
    found = run_alone(alone, *words)
    assert found.returncode == 2 and not found.stdout
    said, remedy = found.stderr.strip().splitlines()
    assert f"expected the library {library} for " in said and said.endswith("found it not installed [library-missing]")
    assert remedy == f"  -> pip install 'zeitbuch[{extra}]' brings it"


def test_who_has_no_book_is_told_so_and_not_of_a_library(alone: Path) -> None:
    found = run_alone(alone, "history")
    assert found.returncode == 2 and "[book-none]" in found.stderr


def test_python_says_the_same_of_a_missing_library(alone: Path) -> None:
    script = "import zeitbuch\ntry: zeitbuch.inventory(zeitbuch.read('november/native')).to_frame()\nexcept zeitbuch.ZeitbuchError as e: print(e.problem.code)"
    env = {**os.environ, "PYTHONPATH": str(alone)}
    found = subprocess.run(
        [sys.executable, "-c", script], cwd=alone / "estate", env=env, capture_output=True, text=True
    )
    assert found.stdout == "library-missing\n", found.stderr


def test_the_demo_alone_ends_well_and_tells_what_it_left_out(alone: Path) -> None:
    found = run_alone(alone, "demo", str(alone / "demo"))
    assert found.returncode == 0, found.stderr
    left = [line for line in found.stdout.splitlines() if line.startswith("(left out: ")]
    assert {line.rpartition("[")[2].partition("]")[0] for line in left if "[" in line} == {
        "images", "charts", "usage", "book",
    }  # fmt: skip
    opened = [line.split()[0] for line in found.stdout.partition("Open next:")[2].splitlines() if line]
    assert opened and all((alone / name).exists() for name in opened)


@pytest.mark.parametrize("bold", [False, True])
def test_widths_are_those_of_the_shipped_font(bold: bool) -> None:
    font = ImageFont.truetype(str(FOLDER / ("DejaVuSans-Bold.ttf" if bold else "DejaVuSans.ttf")), 2048)
    letters = [*map(chr, range(33, 0x250)), *"→←✓●…–—‘’“”€ΑΩяЖאب"]
    printable = [letter for letter in letters if letter.isprintable()]
    assert not [letter for letter in printable if abs(font.getlength(letter) - measure_text(letter, 2048, bold)) > 1]
    text = "Answer the customer’s letter"
    assert measure_text(text, 2048, bold) == pytest.approx(font.getlength(text), rel=0.01)  # kerning is left out


def test_letters_that_the_font_lacks_have_the_width_of_another_font() -> None:
    assert measure_text("船の予約", 10) == 40 and measure_text("e\u0301", 10) == measure_text("e", 10)
    assert measure_text("\ud800", 10) == measure_text("\U000e0001", 10) > 0


def test_a_missing_library_outside_of_the_table_is_no_message_of_ours() -> None:
    from zeitbuch.core.model.extras import telling_missing

    with pytest.raises(ModuleNotFoundError), telling_missing():
        __import__("no_such_library_anywhere")
    with pytest.raises(ZeitbuchError), telling_missing():
        raise ModuleNotFoundError("gone", name="scipy.optimize")

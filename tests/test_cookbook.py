"""Every recipe of the cookbook reads the flow it shows: Look, then Ask, then Tell, with nothing left unread."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.input.sources import Held
from zeitbuch.readers.reading.reader import Reader

PAGE = (Path(__file__).parent.parent / "docs" / "cookbook.md").read_text()
RECIPES = re.findall(r"^## (.*?)\n\n```(\w+)\n(.*?)```\n\n```toml\n(.*?)```", PAGE, re.DOTALL | re.MULTILINE)
KINDS = "".join(
    f'[[kind]]\noperation = "{operation}"\n{said}\n'
    for operation, said in (
        ("look", 'kind = "read"'),
        ("ask", 'kind = "model"'),
        ("tell", 'kind = "send"'),
        ("bell", 'trigger = "schedule"'),
    )
)


def test_there_are_twenty_recipes_and_all_are_tried() -> None:
    assert len(RECIPES) >= 20 and len(RECIPES) == PAGE.count("\n## ")


@pytest.mark.parametrize(("title", "form", "export", "recipe"), RECIPES, ids=[row[0] for row in RECIPES])
def test_a_recipe_reads_its_export(title: str, form: str, export: str, recipe: str) -> None:
    first = re.search(r"\w+", export)
    sign = "" if "[signature]" in recipe or first is None else f'[signature]\nall = ["$.{first[0]}"]\n'
    head = 'dialect = 1\nname = "cook"\n' + sign
    dialect = parse_dialect(head + ("" if "[flow]" in recipe else "[flow]\n") + recipe + KINDS, "cook.toml")
    reader = Reader([dialect])
    (flow,) = reader.flows_of([Held(f"export.{form}", export.encode())])
    names = {one.id: one.name for one in flow.steps} | {one.id: "start" for one in flow.triggers}
    links = {(names[one.source], names[one.target]) for one in flow.links if one.role not in ("error", "attach")}
    assert links - {("start", "Look")} == {("Look", "Ask"), ("Ask", "Tell")}
    assert [step.kind for step in flow.steps if step.name == "Ask"] == ["model"]
    assert not flow.triggers or ("start", "Look") in links
    assert flow.content.unread == 0, (flow.unread, [step.unread for step in flow.steps])
    assert [str(problem) for problem in reader.problems if problem.code in ("value-unusable", "link-end")] == []

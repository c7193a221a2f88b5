"""Mistakes in dialect files are refused with file, line and what is allowed."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Run
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.readers.dialects.rules import parse_dialect

GOOD = """\
dialect = 1
name = "harbour"
[signature]
all = ["$.harbour"]
[flow]
[step]
at = "$.tasks[*]"
"""

MISTAKES = [
    ('[[kind]]\noperation = "ask"\nkind = "modell"\n', 10, "expected at `kind[0].kind` one of agent, approve, code", "did you mean `model`?"),
    ('[[kind]]\noperation = "ask"\nkinds = "model"\n', 10, "expected in `kind[0]` a key that is known, found `kinds`", "did you mean `kind`?"),
    ('[[outlet]]\nmatch = "x"\nrole = "errors"\n', 10, "one of attach, case, error, next; found 'errors'", "did you mean `error`?"),
    ('[[link]]\nat = "$.ropes[*]"\nfrom = "a"\n', 8, "expected the key `to` in `link[0]`, found none", ""),
    ('[placeholders]\nopen = ""\nclose = "}}"\n', 9, "the letters that begin a placeholder, found an empty text", ""),
    ('[[link]]\nat = "$.ropes[?"\nfrom = "a"\nto = "b"\n', 9, "`link.0.at`: expected a JSONPath query (RFC 9535), found '$.ropes[?'", "$.steps[*]"),
    ('[[link]]\nat = "$.ropes[*]"\nfrom = "a..b"\nto = "b"\n', 10, "`link.0.from`: expected a dotted path, found 'a..b'", "with.engine"),
    ('[[split]]\nat = "$.ropes[*]"\npattern = "{a}{b}"\n', 10, "`split.0.pattern`: expected names in braces", "{from}"),
    ('[[kind]]\noperation = "ask*"\nkind = "model"\n[[kind]]\noperation = "ask.tide"\nkind = "http"\n', 12,
     "found 'ask.tide' behind 'ask*', which takes all of it", "put the narrower one first"),
    ('[[kind]]\noperation = "tide"\nkind = "model"\ntrigger = "schedule"\n', 11, "found both: model and schedule", "leave one of them out"),
    ('[[pointer]]\nat = 3\n', 9, "expected a text at `pointer[0].at`, found a whole number", ""),
    ('[[kind]]\noperation = "w"\nkind = "wait"\nsilences = { no = "refuses" }\n', 11, "one of approves, escalates, rejects, waits; found 'refuses'", ""),
]  # fmt: skip


@pytest.mark.parametrize(("text", "line", "words", "hint"), MISTAKES)
def test_a_mistake_is_refused_with_its_line_and_what_is_allowed(text: str, line: int, words: str, hint: str) -> None:
    with pytest.raises(ZeitbuchError) as caught:
        parse_dialect(GOOD + text, "harbour.toml")
    problem = caught.value.problem
    assert words in problem.message and hint in problem.hint, problem
    assert problem.origin is not None and (problem.origin.source, problem.origin.line) == ("harbour.toml", line)


@pytest.mark.parametrize(
    ("first", "second"), [("ask.*", "ask"), ("a?k", "a*k"), ("tide.*", "*"), ("ask.tide", "ask.*"), ("[ab]*", "[ab]sk")]
)
def test_rules_that_can_be_used_are_not_refused(first: str, second: str) -> None:
    rules = "".join(f'[[kind]]\noperation = "{one}"\nkind = "http"\n' for one in (first, second))
    assert len(parse_dialect(GOOD + rules, "harbour.toml").kind) == 2


def test_the_command_names_file_line_and_remedy(tmp_path: Path, run: Run) -> None:
    (tmp_path / "harbour.toml").write_text(GOOD + MISTAKES[0][0])
    done = run("inventory", ".", "--dialect", "harbour.toml", cwd=tmp_path)
    assert done.code == 2 and "harbour.toml:10: error:" in done.err and "did you mean `model`?" in done.err

"""The token estimator: its shape, ranges, families, speed of look-ups, and exact counting with a tokenizer file."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.pricing import token_count
from zeitbuch.core.pricing.languages import is_traditional, language_of
from zeitbuch.core.pricing.token_table import FAMILIES, NAMES, RANGES

TEXT = st.text(max_size=200)


@given(TEXT)
def test_counts_are_bounded_by_bytes_and_inside_their_range(text: str) -> None:
    for family in ("", "c"):
        found = token_count.measure_tokens(text, family)
        assert 0 <= found.low <= found.amount <= found.high
        assert found.amount == pytest.approx(token_count.count_tokens(text, family))
        assert found.amount <= 3 * len(text.encode("utf-8", "surrogatepass")) + 1


@given(st.lists(st.text(st.characters(min_codepoint=32, max_codepoint=126), max_size=40), max_size=5))
def test_lines_add_up(lines: list[str]) -> None:
    whole = "".join(f"{line}\n" for line in lines)
    assert token_count.count_tokens(whole) == pytest.approx(
        sum(token_count.count_tokens(f"{line}\n") for line in lines)
    )


@given(
    st.lists(
        st.sampled_from(["der", "The", "nie,", "x", "-", "für", "12", "a\n", "la\tle", "", "berth.", "船"]), max_size=12
    )
)
def test_known_words_are_counted_as_whole_lines_are(words: list[str]) -> None:
    text = " ".join(words) if len(words) % 2 else "  ".join([*words, "", "- x"]) + "   "
    pieces = sum(
        token_count._weights_of("", language, hant)[p]
        for language, hant, found in token_count.cut_text(text)
        for p in found
    )
    assert token_count.count_tokens(text) == pytest.approx(pieces)


def test_table_is_whole() -> None:
    assert "" in FAMILIES and len(FAMILIES) == 6
    assert all(len(values) == len(NAMES) for values in FAMILIES.values())
    assert set(RANGES) == set(FAMILIES)
    groups = (
        {"english", "latin", "digits", "signs", "space", "other"}
        | {name for name, _, _ in token_count._SCRIPTS}
        | {"hant"}
    )
    for by in RANGES.values():
        assert set(by) == groups
        assert all(0 < low < 1 and 0 < high < 2 for low, high in by.values())


@pytest.mark.parametrize(
    ("piece", "group"),
    [
        (" berth", "english"), ("fähre", "latin"), ("12", "digits"), (" {", "signs"), ("  ", "space"), (" ", "space"), ("\n", "space"), ("–", "other"),
        ("🚢", "other"), ("Паром", "cyr"), ("船", "han"), ("ふね", "kana"),
    ],
)  # fmt: skip
def test_pieces_have_a_group_whose_error_is_stated(piece: str, group: str) -> None:
    assert token_count.range_group(piece, "en" if piece != "fähre" else "de", False) == group


@pytest.mark.parametrize(
    ("text", "low", "high"),
    [
        ("Answer in one kind sentence and name the harbour.", 9, 12),
        ("Please", 0.5, 2),
        ("1234567890", 3, 6),
        ('{"id": 17, "name": "Nora"}', 9, 15),
        ("Das Schiff fährt heute leider nicht, bitte warten Sie.", 11, 19),
        ("渡轮早上八点出发。", 6, 13),
        ("", 0, 0),
    ],
)
def test_plain_texts(text: str, low: float, high: float) -> None:
    assert low <= token_count.count_tokens(text) <= high


def test_families_differ_where_tokenizers_do() -> None:
    greek = "Το πλοίο φεύγει στις οκτώ το πρωί."
    assert token_count.count_tokens(greek, "b") > 1.5 * token_count.count_tokens(greek, "a")
    wide, narrow = token_count.measure_tokens(greek), token_count.measure_tokens(greek, "b")
    assert (wide.high - wide.low) / wide.amount > (narrow.high - narrow.low) / narrow.amount
    with pytest.raises(ZeitbuchError, match="expected a tokenizer family"):
        token_count.count_tokens("x", "zz")


@pytest.mark.parametrize(
    ("line", "language"),
    [
        ("the ferry is late and you can wait", "en"),
        ("das schiff ist nicht da und wir warten", "de"),
        ("le bateau est en retard pour les passagers", "fr"),
        ("statek nie jest gotowy się", "pl"),
        ("tàu của bạn không đến", "vi"),
        ("laiva on myöhässä ja se ei tule", "fi"),
        ("x = y + 1", "en"),
    ],
)
def test_languages(line: str, language: str) -> None:
    assert language_of(line, line.split()) == language


def test_traditional_characters() -> None:
    assert is_traditional("國際電話") and not is_traditional("国际电话")


def _tokenizer(folder: Path) -> Path:
    """A small tokenizer in the open JSON format: one token a word."""
    words = ["[UNK]", "answer", "kindly", "and", "name", "the", "harbour"]
    data: dict[str, Any] = {
        "version": "1.0", "truncation": None, "padding": None, "added_tokens": [], "normalizer": {"type": "Lowercase"},
        "pre_tokenizer": {"type": "Whitespace"}, "post_processor": None, "decoder": None,
        "model": {"type": "WordLevel", "vocab": {w: i for i, w in enumerate(words)}, "unk_token": "[UNK]"},
    }  # fmt: skip
    path = folder / "words.json"
    path.write_text(json.dumps(data))
    return path


CARD = "currency = 'EUR'\n[[model]]\nname = 'tern'\ntokenizer = 'words.json'\n[[model.price]]\nfrom = 2026-01-01\ninput = 1000000.0\noutput = 0.0\n"
FLOW = """zeitbuch: 1
flows:
  - id: f
    name: F
    triggers: [{id: t, kind: manual}]
    steps: [{id: a, kind: model, name: Ask, model: {name: tern, prompts: [{text: "Answer kindly and name the harbour"}]}}]
    links: [{source: t, target: a}]
"""


def test_a_tokenizer_file_counts_exactly(tmp_path: Path, run: Any) -> None:
    (tmp_path / "f.yaml").write_text(FLOW)
    (tmp_path / "rates.toml").write_text(CARD)
    code, _, err = run("estimate", "f.yaml", "--rates", "rates.toml", cwd=tmp_path)
    assert code == 2 and "expected a tokenizer file at words.json" in err
    _tokenizer(tmp_path)
    code, out, err = run("estimate", "f.yaml", "--rates", "rates.toml", "-f", "json", cwd=tmp_path)
    assert code == 0, err
    found = json.loads(out)["flows"][0]
    assert found["input_tokens"] == 6 and float(found["cost"]["amount"]) == 6
    (tmp_path / "words.json").write_text("{}")
    code, _, err = run("estimate", "f.yaml", "--rates", "rates.toml", cwd=tmp_path)
    assert code == 2 and "open JSON format" in err and "Traceback" not in err

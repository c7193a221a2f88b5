# Exact token counts for models whose rate names a file in the open tokenizer JSON format. Needs the extra `exact`.
"""Counting with tokenizer files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import fail
from zeitbuch.core.pricing.rate_card import RateCard


def load_counters(card: RateCard | None, folder: str) -> dict[str, Callable[[str], float]]:
    """Tokenizer file (as the card names it) -> what counts with it. Paths are taken from the folder of the card.

    Raises ZeitbuchError when a file cannot be read, or the library for it is not installed.
    """
    named = (
        sorted({model_rate.tokenizer for model_rate in card.model if model_rate.tokenizer}) if card is not None else []
    )
    return {name: _load_counter(name, str(Path(folder) / name)) for name in named}


def _load_counter(name: str, path: str) -> Callable[[str], float]:
    with telling_missing():
        from tokenizers import Tokenizer
    if not Path(path).is_file():
        raise fail(
            "tokenizer-file",
            f"expected a tokenizer file at {path}, found none",
            "paths are taken from the folder of the rate card",
        )
    try:
        made: Any = Tokenizer.from_file(path)
    except Exception as error:  # the library raises no narrower class
        raise fail("tokenizer-file", f"{path}: expected a tokenizer in the open JSON format, found: {error}") from None
    return lambda text: float(len(made.encode(text, add_special_tokens=False).ids))

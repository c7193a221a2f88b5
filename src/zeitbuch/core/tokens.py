# How many tokens a text has, without any tokenizer: counts of word shapes and scripts times coefficients. The
# coefficients were fitted on texts with counts of five tokenizers (their median); see docs/tokens.md for the error.
"""The offline token estimator."""

from __future__ import annotations

import re

_PIECE = re.compile(
    r"(?P<word>[A-Za-z]+)|(?P<latin>[A-Za-z\u00c0-\u024f\u1e00-\u1eff]+)|(?P<digit>[0-9]+)|(?P<line>\s*\n\s*)"
    r"|(?P<space>[ \t]{2,})|(?P<gap>[ \t])|(?P<cyrillic>[\u0400-\u052f]+)|(?P<greek>[\u0370-\u03ff\u1f00-\u1fff]+)"
    r"|(?P<arabic>[\u0590-\u07ff]+)|(?P<indic>[\u0900-\u0dff]+)|(?P<thai>[\u0e00-\u0eff]+)|(?P<kana>[\u3040-\u30ff]+)"
    r"|(?P<han>[\u3400-\u9fff\uf900-\ufaff]+)|(?P<hangul>[\uac00-\ud7af\u1100-\u11ff]+)|(?P<sign>[!-/:-@\[-`{-~]+)|(?P<rest>.)",
    re.DOTALL,
)
BLOCKS = ("cyrillic", "greek", "arabic", "indic", "thai", "kana", "han", "hangul")
NAMES = (
    "word", "long", "longer", "mixed", "upper", "accented", "accent_word", "digit", "digits", "line", "space", "sign",
    "signs", "rest", *BLOCKS, *(f"{b}_word" for b in BLOCKS),
)  # fmt: skip
_AT = {name: i for i, name in enumerate(NAMES)}


def features(text: str) -> list[int]:
    """Counts of the shapes in NAMES."""
    f = [0] * len(NAMES)
    at = _AT
    for m in _PIECE.finditer(text):
        kind = m.lastgroup
        size = m.end() - m.start()
        if kind == "gap":
            continue
        if kind == "word":
            piece = m[0]
            f[at["word"]] += 1
            if size > 7:
                f[at["long"]] += min(size, 12) - 7
            if size > 12:
                f[at["longer"]] += size - 12
            if size > 1 and piece.isupper():
                f[at["upper"]] += size - 1
            elif size > 3 and not piece.islower() and not piece[1:].islower():
                f[at["mixed"]] += sum(map(str.isupper, piece[1:]))
        elif kind == "latin":
            f[at["accent_word"]] += 1
            f[at["accented"]] += size
        elif kind == "digit":
            f[at["digit"]] += 1
            f[at["digits"]] += size - 1
        elif kind == "sign":
            f[at["sign"]] += 1
            f[at["signs"]] += size - 1
        elif kind in ("line", "space", "rest"):
            f[at[kind]] += 1
        elif kind is not None:
            f[at[kind]] += size
            f[at[f"{kind}_word"]] += 1
    return f


COEFFICIENTS: dict[str, float] = {
    "word": 0.97, "long": 0.229, "mixed": 1.035, "upper": 0.017, "accented": 0.419, "digit": 1.06, "digits": 0.37,
    "line": 0.995, "space": 0.918, "sign": 0.85, "signs": 0.1, "rest": 1.739, "cyrillic": 0.207, "greek": 0.328,
    "arabic": 0.22, "indic": 0.309, "thai": 0.376, "kana": 0.481, "han": 0.65, "hangul": 0.506,
    "cyrillic_word": 0.51, "greek_word": 0.568, "arabic_word": 0.934, "indic_word": 0.519, "thai_word": 0.486,
    "kana_word": 0.423, "han_word": 0.26, "hangul_word": 0.533,
}  # fmt: skip
_WEIGHTS = tuple(COEFFICIENTS.get(name, 0.0) for name in NAMES)


def count(text: str) -> float:
    """Estimated tokens of a text (not rounded). Raises nothing; an empty text has none."""
    if not text:
        return 0.0
    return sum(n * w for n, w in zip(features(text), _WEIGHTS, strict=True) if n)

"""Fits the coefficients of the offline token estimator to texts with known counts, and checks them on other texts.

usage: python benchmarks/tokens.py FILE [--write]

FILE holds one JSON object a line: id, category, language, text, tokens {name: count}, median. Each category is cut in two
halves by the hash of the ids; each half is fitted and checked on the other. --write fits all texts and writes
src/zeitbuch/core/pricing/token_table.py. The texts themselves are no part of the project.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import time
from collections import Counter, defaultdict
from pathlib import Path

import numpy as np
from scipy.optimize import lsq_linear

from zeitbuch.core.pricing import token_count
from zeitbuch.core.pricing.languages import LATIN

SCRIPTS = ("cyr", "grk", "heb", "ara", "ind", "thai", "kana", "han", "hant", "hang")
NAMES = (
    "word", "glued", "hump", "long", "longer", "rare", "rare3", "upper", "upperlen", "accent", "noise", "w_for", "l_for",
    "acc_for", *(f"{p}_{x}" for x in LATIN if x != "en" for p in "wl"), "num", "dig", "dig3", "nl", "gap", "tab", "indent",
    "sign", "sig2", "sign+", "rep",
    *(f"{s}{w}" for s in SCRIPTS for w in ("", "_w") if not (w and s in ("thai", "kana", "han", "hant"))), "emoji", "joiner", "cjkp", "punct", "rest",
)  # fmt: skip
# What is believed before seeing a text: the fit is drawn towards it where texts say little.
PRIOR = {
    "word": 1.0, "sign": 0.9, "nl": 0.9, "num": 1, "dig3": 1, "indent": 0.9, "w_for": 1.0, "l_for": 0.2, "emoji": 2, "cjkp": 1,
    "punct": 1, "rest": 2, "cyr": 0.2, "cyr_w": 0.6, "grk": 0.3, "grk_w": 0.6, "heb": 0.4, "heb_w": 0.5, "ara": 0.25, "ara_w": 0.8,
    "ind": 0.3, "ind_w": 0.6, "thai": 0.38, "kana": 0.5, "han": 0.65, "hant": 0.85, "hang": 0.5, "hang_w": 0.5, "glued": 0.1,
    "rare": 0.15, "rare3": 0.1, "tab": 0.8, "joiner": 1, "upper": 0.3, "accent": 0.5, "acc_for": 0.2, "noise": 0.6,
}  # fmt: skip
SIGNED = ("w_", "l_")
GROUPS = ("english", "latin", "script", "marks")


def features(text: str) -> list[float]:
    found: Counter[str] = Counter()
    for language, hant, pieces in token_count.cut_text(text):
        for piece in pieces:
            found.update(token_count.count_shapes(piece, language, hant))
    return [found[n] for n in NAMES]


def fit(x: np.ndarray, y: np.ndarray, prior: np.ndarray, strength: float = 0.1) -> np.ndarray:
    """Ridge towards the prior on relative errors, reweighted towards least absolute errors; short texts count less."""
    a = x / y[:, None]
    weight = np.minimum(1, np.sqrt(y / 60))
    use = np.sqrt((a**2).sum(0)) + 1e-9
    ridge = strength * np.maximum(use, 0.02 * np.sqrt(len(y)))
    free = [(n[:2] in SIGNED and not n.endswith("_for")) or n in ("sig2", "glued", "hump") for n in NAMES]
    lower = np.where(free, -1.0, 0.0)
    robust = np.ones(len(y))
    c = prior
    for _ in range(12):
        w = np.sqrt(robust) * weight
        c = lsq_linear(
            np.vstack([a * w[:, None], np.diag(ridge)]), np.concatenate([w, ridge * prior]), (lower, np.inf)
        ).x
        robust = np.maximum(0.03 / np.maximum(np.abs(a @ c - 1), 0.03), 0.1)
    return c


def halves(rows: list[dict]) -> np.ndarray:
    seen: Counter[str] = Counter()
    side = np.zeros(len(rows), int)
    for i in sorted(range(len(rows)), key=lambda i: hashlib.sha256(rows[i]["id"].encode()).hexdigest()):
        side[i] = seen[rows[i]["category"]] % 2
        seen[rows[i]["category"]] += 1
    return side


def report(rows: list[dict], where: np.ndarray, error: np.ndarray) -> None:
    size = np.abs(error)
    print(
        f"  {len(where)} texts: median {np.median(size):.1%}, 90th percentile {np.quantile(size, 0.9):.1%}, bias {error.mean():+.1%}"
    )
    for key in ("category", "language"):
        by: dict[str, list[float]] = defaultdict(list)
        for i, e in zip(where, size, strict=True):
            by[rows[i][key]].append(e)
        print(f"  by {key}: " + ", ".join(f"{k} {np.median(v):.1%}" for k, v in sorted(by.items())))


def widths(rows: list[dict], estimates: np.ndarray, families: list[str]) -> dict[str, float]:
    """90th percentile of the relative error of texts by the group most of their tokens belong to."""
    off: dict[str, list[float]] = defaultdict(list)
    for row, estimate in zip(rows, estimates, strict=True):
        share: Counter[str] = Counter()
        for language, hant, pieces in token_count.cut_text(row["text"]):
            for p in pieces:
                share[token_count.language_group(p, language)] += token_count._weights_of("", language, hant)[p]
        if estimate >= 20:
            off[max(share, key=lambda g: share[g])] += [abs(row["tokens"][f] / estimate - 1) for f in families]
    return {g: float(np.quantile(off[g], 0.9)) for g in GROUPS}


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("file")
    parser.add_argument("--write", action="store_true")
    args = parser.parse_args()
    rows = [json.loads(line) for line in Path(args.file).read_text(encoding="utf-8").splitlines()]
    x = np.array([features(r["text"]) for r in rows], float)
    y = np.array([r["median"] for r in rows], float)
    prior = np.array([PRIOR.get(n, 0.0) for n in NAMES])
    side = halves(rows)
    kinds = sorted(rows[0]["tokens"])
    held = np.zeros((len(rows), len(kinds) + 1))
    for half in (0, 1):
        fitted, checked = np.flatnonzero(side == half), np.flatnonzero(side != half)
        c = fit(x[fitted], y[fitted], prior)
        print(f"fitted on half {half + 1}, checked on the other, against the median:")
        report(rows, checked, x[checked] @ c / y[checked] - 1)
        held[checked, 0] = x[checked] @ c
        for k, kind in enumerate(kinds, 1):
            own = np.array([r["tokens"][kind] for r in rows], float)
            d = fit(x[fitted], own[fitted], c, 0.2)
            held[checked, k] = x[checked] @ d
    for k, kind in enumerate(kinds, 1):
        own = np.array([r["tokens"][kind] for r in rows], float)
        size, plain = np.abs(held[:, k] / own - 1), np.abs(held[:, 0] / own - 1)
        print(
            f"{kind}: own coefficients {np.median(size):.1%} / {np.quantile(size, 0.9):.1%}, those of the median {np.median(plain):.1%} / {np.quantile(plain, 0.9):.1%}"
        )
    letters = np.array([len(r["text"]) for r in rows])
    print(
        f"characters / 4: {np.median(abs(letters / 4 / y - 1)):.1%} / {np.quantile(abs(letters / 4 / y - 1), 0.9):.1%}"
    )
    text = "".join(r["text"] for r in rows) * 4
    token_count._costs.clear()
    begun = time.perf_counter()
    token_count.count_tokens(text)
    print(
        f"speed: {len(text.encode()) / 1e6 / (time.perf_counter() - begun):.1f} MB/s on text not seen before, one pass"
    )
    if not args.write:
        return
    c = fit(x, y, prior)
    table = {"": c}
    wide = {"": widths(rows, held[:, 0], kinds)}
    for k, kind in enumerate(kinds, 1):
        name = kind.rsplit("_", 1)[-1]
        table[name] = fit(x, np.array([r["tokens"][kind] for r in rows], float), c, 0.2)
        wide[name] = widths(rows, held[:, k], [kind])
    out = '"""Coefficients of the token estimator, written by benchmarks/tokens.py; \'\' is the median of the families."""\n\n'
    out += "from __future__ import annotations\n\n# fmt: off\nNAMES: tuple[str, ...] = (\n"
    out += (
        "".join("    " + ", ".join(f'"{n}"' for n in NAMES[i : i + 12]) + ",\n" for i in range(0, len(NAMES), 12))
        + ")\n"
    )
    out += "FAMILIES: dict[str, tuple[float, ...]] = {\n"
    for name, values in table.items():
        rounded = [f"{v:.3f}".rstrip("0").rstrip(".").replace("-0", "-0") or "0" for v in values]
        rounded = ["0" if v in ("-0", "") else v for v in rounded]
        out += (
            f'    "{name}": (\n'
            + "".join("        " + ", ".join(rounded[i : i + 14]) + ",\n" for i in range(0, len(rounded), 14))
            + "    ),\n"
        )
    out += "}\n# Relative error that nine texts in ten of a group keep, measured on texts that were not fitted.\n"
    out += "WIDTHS: dict[str, dict[str, float]] = {\n"
    for name, by in wide.items():
        out += f'    "{name}": {{' + ", ".join(f'"{g}": {v:.3f}' for g, v in by.items()) + "},\n"
    out += "}\n"
    path = Path(__file__).parents[1] / "src/zeitbuch/core/pricing/token_table.py"
    path.write_text(out, encoding="utf-8")
    print(f"written {path}")


if __name__ == "__main__":
    main()

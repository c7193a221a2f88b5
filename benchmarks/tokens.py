"""Fits the coefficients of the offline token estimator to texts with known counts, and checks them on other texts.

usage: python benchmarks/tokens.py FILE [--write]

FILE holds one JSON object a line: id, category, language, text, tokens {name: count}, median. Each category is cut in two
halves by the hash of the ids; each half is fitted and checked on the other. Ranges are fitted to the errors on texts that the fit had not
seen, and on kinds of texts that it had not seen; whether they hold is checked on texts that neither their estimate nor the ranges were fitted to. --write
fits all texts and writes src/zeitbuch/core/pricing/token_table.py. The texts themselves are no part of the project.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import time
from collections import Counter, defaultdict
from pathlib import Path

import numpy as np
from scipy.optimize import linprog, lsq_linear

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
GROUPS = ("english", "latin", "digits", "signs", "space", "other", *SCRIPTS)
POOLS = np.array(
    [{"english": 0, "latin": 1, "digits": 2, "signs": 2, "space": 2, "other": 2}.get(g, 3) for g in GROUPS]
)
# Nine texts in ten are stated. Other texts are never quite of the same kinds: the ranges are fitted to hold somewhat more.
TAIL, PULL, LEAST = 0.98, 0.2, 0.02


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


def shares(rows: list[dict]) -> np.ndarray:
    """Which part of the tokens of each text every group of pieces has, shape (texts, groups)."""
    found = np.zeros((len(rows), len(GROUPS)))
    for at, row in enumerate(rows):
        for language, hant, pieces in token_count.cut_text(row["text"]):
            costs = token_count._weights_of("", language, hant)
            for piece in pieces:
                found[at, GROUPS.index(token_count.range_group(piece, language, hant))] += costs[piece]
    return found / found.sum(1, keepdims=True)


def quantile_fit(x: np.ndarray, off: np.ndarray, prior: np.ndarray, pull: float) -> np.ndarray:
    """Coefficients whose sums leave so many errors below them as TAIL says (quantile regression, Koenker and Bassett 1978), drawn towards
    a prior, as a linear programme."""
    n, g = x.shape
    cost = np.concatenate([np.zeros(g), np.full(n, TAIL), np.full(n, 1 - TAIL), np.full(2 * g, pull)])
    rows = np.block(
        [[x, np.eye(n), -np.eye(n), np.zeros((n, 2 * g))], [np.eye(g), np.zeros((g, 2 * n)), -np.eye(g), np.eye(g)]]
    )
    bounds = [(0.0, None)] * (g + 2 * n + 2 * g)
    return linprog(cost, A_eq=rows, b_eq=np.concatenate([off, prior]), bounds=bounds, method="highs").x[:g]


def fit_ranges(x: np.ndarray, off: np.ndarray) -> np.ndarray:
    """How far texts are off, by group of their pieces: first by kinds of groups, then each group drawn towards its kind."""
    pooled = np.stack([x[:, pool == POOLS].sum(1) for pool in range(4)], 1)
    base = np.maximum(quantile_fit(pooled, off, np.full(4, 0.1), 0.05), LEAST)
    return np.maximum(quantile_fit(x, off, base[POOLS], PULL), LEAST)


class Held:
    """Estimates of texts by coefficients that were fitted without them: without a tenth of all, and without all of their kind."""

    def __init__(self, rows: list[dict], x: np.ndarray, prior: np.ndarray) -> None:
        kinds = sorted(rows[0]["tokens"])
        self.own = np.array([[row["tokens"][kind] for kind in kinds] for row in rows], float)
        self.x, self.prior, self.y = x, prior, np.array([row["median"] for row in rows], float)
        self.shares, self.kinds = shares(rows), np.array([row["category"] for row in rows])
        # A language that was not fitted at all is another question than a text of another kind.
        self.likely = np.array([not kind.startswith("lang_") and kind != "emoji_text" for kind in self.kinds])
        tenths = np.random.default_rng(0).permutation(len(rows)) % 10
        self.by_tenths, self.by_kind = self._fitted_without(tenths), self._fitted_without(self.kinds)

    def _fitted_without(self, parts: np.ndarray) -> np.ndarray:
        found = np.zeros((len(parts), self.own.shape[1] + 1))
        for part in np.unique(parts):
            seen, left = parts != part, parts == part
            c = fit(self.x[seen], self.y[seen], self.prior)
            found[left, 0] = self.x[left] @ c
            for k in range(self.own.shape[1]):
                found[left, k + 1] = self.x[left] @ fit(self.x[seen], self.own[seen, k], c, 0.2)
        return found

    def errors(
        self, family: int, texts: np.ndarray, estimates: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Shares scaled for the length of texts, and how far counts are above and below the estimates; of no family (0) the counts of
        all of them, so that each text has one error: that of the family that is furthest off."""
        counts = self.own[texts] if not family else self.own[texts][:, family - 1 : family]
        amount = estimates[texts, family]
        x = self.shares[texts] * (1 + 3 / (amount + 1))[:, None]
        return x, counts.max(1) / amount - 1, 1 - counts.min(1) / amount

    def ranges(self, family: int, texts: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """What the errors on some texts say of every group: how far below, how far above."""
        parts = [self.errors(family, texts, self.by_tenths), self.errors(family, texts & self.likely, self.by_kind)]
        x, above, below = (np.concatenate(column) for column in zip(*parts, strict=True))
        return fit_ranges(x, below), fit_ranges(x, above)

    def holds(self, family: int, estimates: np.ndarray, among: np.ndarray, times: int = 6) -> tuple[float, float]:
        """Which part of the texts ranges hold that were fitted to the other half of all; and their width in the median."""
        inside: list[float] = []
        width: list[float] = []
        for seed in range(times):
            half = np.random.default_rng(100 + seed).random(len(self.y)) < 0.5
            for side in (half, ~half):
                low, high = self.ranges(family, side)
                x, above, below = self.errors(family, ~side & among, estimates)
                inside += ((above <= x @ high) & (below <= x @ low)).tolist()
                width += ((x @ high + x @ low) / 2).tolist()
        return float(np.mean(inside)), float(np.median(width))


def report_ranges(held: Held, names: list[str]) -> None:
    """Prints how many texts the ranges hold that were fitted to the other half, by kind of text and by what the estimate had seen."""
    every, markdown = np.ones(len(held.y), bool), held.kinds == "markdown_prompt"
    print("texts within ranges fitted to other texts (half their width):")
    for family, name in enumerate(["all five", *names]):
        parts = [
            ("all", held.by_tenths, every),
            ("English and code", held.by_tenths, held.likely),
            ("Markdown", held.by_tenths, markdown),
            ("of a kind not seen", held.by_kind, held.likely),
        ]
        said = [
            f"{words} {share:.1%} ({wide:.0%})"
            for words, estimates, among in parts
            for share, wide in [held.holds(family, estimates, among)]
        ]
        print(f"  {name}: " + ", ".join(said))


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
    unseen = Held(rows, x, prior)
    report_ranges(unseen, [kind.rsplit("_", 1)[-1] for kind in kinds])
    if not args.write:
        return
    c = fit(x, y, prior)
    table = {"": c}
    for kind in kinds:
        table[kind.rsplit("_", 1)[-1]] = fit(x, np.array([r["tokens"][kind] for r in rows], float), c, 0.2)
    every = np.ones(len(rows), bool)
    wide = {name: np.stack(unseen.ranges(family, every), 1) for family, name in enumerate(table)}
    write_table(table, wide)


def write_table(table: dict[str, np.ndarray], wide: dict[str, np.ndarray]) -> None:
    """Writes the coefficients and ranges of all families."""
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
    out += "}\n# How far below and above an estimate nine texts in ten are at most, as parts of it, by group of pieces; measured on texts and\n"
    out += "# kinds of texts that were not fitted.\nRANGES: dict[str, dict[str, tuple[float, float]]] = {\n"
    for name, by in wide.items():
        cells = [f'"{g}": ({low:.3f}, {high:.3f})' for g, (low, high) in zip(GROUPS, by, strict=True)]
        lines = ["        " + ", ".join(cells[at : at + 5]) + ",\n" for at in range(0, len(cells), 5)]
        out += f'    "{name}": {{\n' + "".join(lines) + "    },\n"
    out += "}\n"
    path = Path(__file__).parents[1] / "src/zeitbuch/core/pricing/token_table.py"
    path.write_text(out, encoding="utf-8")
    print(f"written {path}")


if __name__ == "__main__":
    main()

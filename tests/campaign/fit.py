"""Fits the weights of evidence on estates of the fitted pool and holds them against the pool that was kept apart. Takes minutes:

python tests/campaign/fit.py            writes src/zeitbuch/readers/infer/claim_weights.py
python tests/campaign/fit.py --check    a table of stated against right, on the pool kept apart
"""

from __future__ import annotations

import argparse
import pprint
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from pathlib import Path

import numpy as np
from scipy.optimize import minimize

sys.path.insert(0, str(Path(__file__).parent.parent))

from campaign.claims import judge_claims
from campaign.estates import judge_estate, make_estate
from zeitbuch.readers.infer import claims

Row = tuple[str, dict[str, float], bool]
TARGET = Path(__file__).parents[2] / "src/zeitbuch/readers/infer/claim_weights.py"
BINS = (0.0, 0.3, 0.5, 0.75, 0.85, 0.95, 1.0)
_WRONG_WITHOUT_EVIDENCE = 4
_RIDGE = 0.3  # how strongly weights are held near 0


def rows_of(task: tuple[int, bool, bool, bool]) -> list[Row]:
    """The claims about one estate."""
    seed, fitted, words, few = task
    claims.ASSERTED = 0.0  # what is asked is taken out of a dialect: to be judged it has to be read
    with tempfile.TemporaryDirectory() as folder:
        made = make_estate(Path(folder), seed, fitted, words, few=few)
        return [(j.claim.part, j.claim.evidence, j.right) for j in judge_claims(made, judge_estate(made))]


def collect(fitted: bool, seeds: int, first: int = 0) -> list[Row]:
    """Claims about many estates: with and without trade words, of several flows and of few."""
    tasks = [
        (seed, fitted, words, few)
        for seed in range(first, first + seeds)
        for words in (True, False)
        for few in (False, True)
    ]
    with ProcessPoolExecutor() as pool:
        return [row for rows in pool.map(rows_of, tasks) for row in rows]


def fit_part(rows: list[Row]) -> dict[str, float]:
    """Logistic regression with a ridge: weights by name, the constant under ''. A claim that nothing speaks for counts as wrong a few
    times, so that a part that never failed here is not sure for no reason."""
    names = sorted({name for _, evidence, _ in rows for name in evidence})
    rows = [*rows, *[(rows[0][0], {}, False)] * _WRONG_WITHOUT_EVIDENCE]
    values = np.array([[1.0, *[evidence.get(name, 0.0) for name in names]] for _, evidence, _ in rows])
    right = np.array([float(ok) for _, _, ok in rows])

    def loss(weights: np.ndarray) -> tuple[float, np.ndarray]:
        logits = values @ weights
        slope = values.T @ (1 / (1 + np.exp(-logits)) - right)
        penalty = np.concatenate([[0.0], weights[1:]])
        return float(
            np.sum(np.logaddexp(0, logits) - right * logits) + _RIDGE * penalty @ penalty
        ), slope + 2 * _RIDGE * penalty

    found = minimize(loss, np.zeros(len(names) + 1), jac=True, method="L-BFGS-B").x
    return {
        "": round(float(found[0]), 2),
        **{name: round(float(w), 2) for name, w in zip(names, found[1:], strict=True)},
    }


def write_weights(rows: list[Row], only: str = "") -> None:
    """The module of weights, anew; ``only``: with those of one part alone fitted, all others as they are."""
    rows = [row for row in rows if claims.DOUBTED not in row[1]]  # that is asked, whatever the weights
    parts = sorted({part for part, _, _ in rows if only in ("", part)})
    weights = {part: fit_part([row for row in rows if row[0] == part]) for part in parts}
    weights = dict(sorted({**claims.WEIGHTS, **weights}.items())) if only else weights
    head = TARGET.read_text().split("WEIGHTS:")[0]
    TARGET.write_text(f"{head}WEIGHTS: dict[str, dict[str, float]] = {pprint.pformat(weights, sort_dicts=False)}\n")


def print_table(rows: list[Row]) -> None:
    """Stated against right, in bins and by part."""
    from zeitbuch.readers.infer.claims import probability_of

    stated = [(probability_of(part, evidence), ok, part) for part, evidence, ok in rows]
    print(f"{'stated':<14}{'claims':>8}{'mean':>8}{'right':>8}")
    for low, high in pairwise(BINS):
        inside = [(p, ok) for p, ok, _ in stated if low <= p < high or (high == 1.0 and p == 1.0)]
        if inside:
            print(
                f"{low:.2f} to {high:.2f}  {len(inside):>8}{sum(p for p, _ in inside) / len(inside):>8.2f}{sum(ok for _, ok in inside) / len(inside):>8.2f}"
            )
    print(f"\n{'part':<16}{'claims':>8}{'stated':>8}{'right':>8}")
    for part in sorted({part for _, _, part in stated}):
        inside = [(p, ok) for p, ok, name in stated if name == part]
        print(
            f"{part:<16}{len(inside):>8}{sum(p for p, _ in inside) / len(inside):>8.2f}{sum(ok for _, ok in inside) / len(inside):>8.2f}"
        )


def main() -> None:
    """Fit, or check."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--check", action="store_true")
    options.add_argument("--fitted", action="store_true", help="check on the pool of the fit")
    options.add_argument("--part", default="", help="fit this part alone")
    options.add_argument("--seeds", type=int, default=60)
    given = options.parse_args()
    if given.check:
        print_table(collect(given.fitted, given.seeds, 5000))
    else:
        write_weights(collect(True, given.seeds, 2000), given.part)


if __name__ == "__main__":
    main()

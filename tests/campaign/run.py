"""The campaign: many estates of made-up builders, and how much of each part a proposal finds. Takes minutes; run by hand:

python tests/campaign/run.py --pool held --seeds 60 --no-words
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from campaign.answers import Owner
from campaign.estates import PARTS, judge_estate, make_estate, shares


def run_seed(
    seed: int, fitted: bool, words: bool, structure: str, container: str, answered: bool = False
) -> tuple[str, Counter[str]]:
    """Structure and container of one estate, with its counts."""
    with tempfile.TemporaryDirectory() as folder:
        made = make_estate(Path(folder), seed, fitted, words, structure, container)
        try:
            return f"{made.structure} / {made.container}", judge_estate(made, Owner(made) if answered else None).counts
        except Exception as error:  # a crash is a result, too
            return f"{made.structure} / {made.container}", Counter(
                {"crash": 1, f"crash {type(error).__name__}: {str(error)[:60]}": 1}
            )


def main() -> None:
    """Print a table of precision and recall by part; with --by also by structure or container."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--pool", choices=("fitted", "held"), default="fitted")
    options.add_argument("--seeds", type=int, default=40)
    options.add_argument("--first", type=int, default=0)
    options.add_argument("--no-words", action="store_true", help="operations without trade words")
    options.add_argument("--answered", action="store_true", help="with ten questions answered")
    options.add_argument("--by", choices=("structure", "container", "seed"))
    options.add_argument("--structure", default="")
    options.add_argument("--container", default="")
    given = options.parse_args()
    each = partial(
        run_seed,
        fitted=given.pool == "fitted",
        words=not given.no_words,
        structure=given.structure,
        container=given.container,
        answered=given.answered,
    )
    seeds = range(given.first, given.first + given.seeds)
    total: Counter[str] = Counter()
    by: dict[str, Counter[str]] = {}
    with ProcessPoolExecutor() as pool:
        for seed, (name, counts) in zip(seeds, pool.map(each, seeds), strict=True):
            total += counts
            if given.by:
                group = f"{seed} {name}" if given.by == "seed" else name.split(" / ")[given.by == "container"]
                by.setdefault(group, Counter()).update(counts)
    print(f"{'':<40}" + "".join(f"{part[:9]:>11}" for part in PARTS))
    for name, counts in [*sorted(by.items()), ("all", total)]:
        print(f"{name:<40}" + "".join(f"  {p:.2f}/{r:.2f}" for p, r in shares(counts).values()))
    for name in total:
        if name.startswith("crash"):
            print(name, total[name])


if __name__ == "__main__":
    main()

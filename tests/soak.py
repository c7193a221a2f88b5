"""Long runs of what the tests draw, with other draws every time: `python tests/soak.py --flows 100000`.

Each property is tried on its share of the flows, in as many processes as there are cores. What disagrees is printed, made as small as it
gets, and becomes a test; the exit status is 1 then. The tests themselves draw the same flows every time.
"""

from __future__ import annotations

import argparse
import importlib
import multiprocessing
import os
import sys
import time
from pathlib import Path
from typing import NamedTuple

HERE = Path(__file__).parent


class Law(NamedTuple):
    """A property: the test that states it, and how many flows of a hundred it gets (the dear ones fewer)."""

    module: str
    test: str
    share: int


LAWS = (
    Law("test_sampled", "test_exact_and_sampled_agree_on_flows_of_any_shape", 20),
    Law("test_sampled", "test_exact_and_sampled_agree_on_what_scopes_lose", 16),
    Law("test_told_apart", "test_scopes_lose_what_runs_gone_through_one_by_one_lose", 4),
    Law("test_told_apart", "test_items_go_where_those_gone_through_one_by_one_go", 4),
    Law("test_item_joins", "test_items_meet_as_those_gone_through_one_by_one", 3),
    Law("test_sampled", "test_exact_sampled_and_every_outcome_agree", 17),
    Law("test_brought_items", "test_items_of_branches_within_branches_are_those_gone_through_one_by_one", 3),
    Law("test_fault_routes", "test_what_takes_a_fault_is_what_a_story_tells", 1),
    Law("test_stories", "test_what_runs_before_a_step_has_run_whenever_it_does", 1),
    Law("test_stories", "test_stories_of_failures_say_what_is_counted", 1),
    Law("test_stories", "test_stories_of_cases_say_what_is_counted", 1),
    Law("test_passes", "test_passes_agree_with_a_recursion_over_the_structure", 16),
    Law("test_worlds", "test_passes_of_all_worlds_are_those_of_each", 4),
    Law("test_worlds", "test_passes_of_scopes_in_all_worlds_are_those_of_each", 3),
    Law("test_rule_days", "test_flows_of_any_shape_are_the_mean_of_their_days", 2),
    Law("test_rule_days", "test_a_bill_is_that_of_its_days", 2),
    Law("test_calls_of_trees", "test_calls_are_those_of_all_rounds", 1),
    Law("test_days", "test_a_month_is_the_sum_of_its_days", 1),
)


def try_law(law: Law, flows: int, seed: int) -> tuple[Law, int, str]:
    """Tries a property on so many flows; what disagrees in words."""
    from hypothesis import HealthCheck, settings
    from hypothesis import seed as seeded

    test = getattr(importlib.import_module(law.module), law.test)
    long = settings(
        max_examples=flows,
        deadline=None,
        database=None,
        derandomize=False,
        suppress_health_check=list(HealthCheck),
        print_blob=False,
    )
    test._hypothesis_internal_use_settings = long  # in the place of the few that the test draws
    try:
        seeded(seed)(test)()
    except BaseException as error:
        return law, flows, _words_of(error)
    return law, flows, ""


def _words_of(error: BaseException) -> str:
    """What disagrees, with all of several that do."""
    inner = error.exceptions if isinstance(error, BaseExceptionGroup) else ()
    return "\n".join([str(error), *getattr(error, "__notes__", ()), *map(_words_of, inner)])


def _try_job(job: tuple[Law, int, int]) -> tuple[Law, int, str]:
    sys.stdout = Path(os.devnull).open("w")  # noqa: SIM115  # whatever a test prints while it makes a case smaller
    return try_law(*job)


def main() -> int:
    """Tries all properties; see the head of this file."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--flows", type=int, default=10_000, help="how many flows in all (default 10000)")
    parser.add_argument(
        "--seed", type=int, default=int(time.time()), help="draws the same flows again (default: another every time)"
    )
    parser.add_argument("--piece", type=int, default=500, help="flows of one property at a time (default 500)")
    args = parser.parse_args()
    jobs = []
    for law in LAWS:
        left = args.flows * law.share // 100
        while left > 0:
            jobs.append((law, min(args.piece, left), args.seed + len(jobs)))
            left -= args.piece
    begun, done, wrong = time.time(), 0, 0
    print(f"seed {args.seed}: {sum(flows for _, flows, _ in jobs):,} flows in {len(jobs)} pieces")
    context = multiprocessing.get_context("spawn")
    with context.Pool(
        os.cpu_count(), initializer=sys.path.insert, initargs=(0, str(HERE)), maxtasksperchild=20
    ) as pool:
        for law, flows, said in pool.imap_unordered(_try_job, jobs):
            done += flows
            if said:
                wrong += 1
                print(f"\n{law.module}.{law.test}:\n{said}\n")
            print(f"\r{done:,} flows, {wrong} disagreements, {time.time() - begun:,.0f} s", end="", flush=True)
    print()
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())

"""Estimates large estates: exact means and sampled runs, speed against bare arithmetic, memory, and how cost grows.

usage: python benchmarks/estimate.py [FLOWS]    (default 10000)

Each size runs in a process of its own, so that its memory is its own. The estate is made up in memory; reading is measured by
benchmarks/run.py.
"""

from __future__ import annotations

import gc
import json
import math
import random
import resource
import subprocess
import sys
import time
from decimal import Decimal
from pathlib import Path

STEPS, RUNS = 30, 1000
WORDS = (
    "please read the letter of a passenger and answer in a kind tone naming the ferry harbour berth date of travel with its"
    " reference number if the sailing was late cancelled or moved say so first then offer another ticket or money back"
).split()


def made_flow(at: int):  # type: ignore[no-untyped-def]
    """One flow of 30 steps: calls of models, decisions that meet again, a loop, failures with repetitions, an agent."""
    from zeitbuch.core.model.records import Flow, Link, ModelUse, Prompt, Ref, Retry, Schedule, Step, Trigger

    rng = random.Random(at)
    steps: list[Step] = []
    links: list[Link] = [Link(source="t", target="s0")]

    def ask(k: int, kind: str, scope: str | None) -> Step:
        mark = f"<s{max(0, k - 1)}>"
        text = " ".join(rng.choice(WORDS) for _ in range(40)) + f" Number {at}-{k}: {mark}"
        prompt = Prompt(text=text, refs=(Ref(step=f"s{max(0, k - 1)}", text=mark),))
        name = rng.choice(["fulmar-mini-2", "fulmar-large-2"])
        return Step(id=f"s{k}", kind=kind, name=f"Ask {k}", scope=scope, model=ModelUse(name=name, prompts=(prompt,)))  # type: ignore[arg-type]

    for k in range(STEPS):
        scope = "s20" if 21 <= k <= 23 else None
        if k == 20:
            step = Step(id="s20", kind="loop", name="For each")
        elif k == 27:
            step = ask(k, "agent", None)
        elif k in (28, 29):
            step = Step(id=f"s{k}", kind="tool", name=f"Tool {k}")
            links.append(Link(source=f"s{k}", target="s27", role="attach"))
        elif k in (3, 11):
            step = Step(id=f"s{k}", kind="decide", name=f"Which {k}")
        elif k % 3 == 1:
            step = ask(k, "model", scope)
        else:
            step = Step(id=f"s{k}", kind="http", name=f"Fetch {k}", scope=scope, retry=Retry(attempts=1))
        steps.append(step)
        if k and k < 28 and k not in (21,) and k - 1 not in (3, 11) and scope == steps[k - 1].scope:
            links.append(Link(source=f"s{k - 1}", target=f"s{k}"))
    links.append(Link(source="s20", target="s24"))
    for d in (3, 11):
        links += [
            Link(source=f"s{d}", target=f"s{d + 1}", role="case", label="a"),
            Link(source=f"s{d}", target=f"s{d + 3}", role="case", label="b"),
        ]
    clock = Schedule(cron=f"{at % 60} {at % 24} * * 1-5", zone="Europe/Oslo")
    return Flow(
        id=f"f{at}", name=f"Flow {at}", owners=(f"Owner {at % 40}",), steps=tuple(steps), links=tuple(links),
        triggers=(Trigger(id="t", kind="schedule", schedule=clock),),
    )  # fmt: skip


def figures(changes: bool = False):  # type: ignore[no-untyped-def]
    """Rate card and assumptions; with ``changes`` prices change twice within the month."""
    from datetime import date

    from zeitbuch.core.assumptions.rules import Assumptions, Rule
    from zeitbuch.core.assumptions.values import Range
    from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard

    def prices(given: str, got: str) -> tuple[Price, ...]:
        days = [date(2026, 1, 1), date(2026, 11, 6), date(2026, 11, 19)]
        return tuple(
            Price(since=day, input=Decimal(given) * (1 + at), output=Decimal(got) * (1 + at))
            for at, day in enumerate(days[: 3 if changes else 1])
        )

    card = RateCard(
        "EUR",
        model=(
            ModelRate("fulmar-mini-2", price=prices("0.3", "1.2")),
            ModelRate("fulmar-large-2", price=prices("2.4", "9.6")),
        ),
    )
    rules = (
        Rule(step="Fetch*", failure=0.05),
        Rule(step="For each", items=Range(1, 4, 9)),
        Rule(step="Which*", case="a", share=0.7),
    )
    return card, Assumptions(assume=rules)


def one(count: int, sampling: str, alone: bool) -> None:
    """Measures one size and prints the figures as JSON; ``alone`` in this process only, without any other."""
    import cronsim  # noqa: F401  what every size imports is no part of its growth
    import scipy.special  # noqa: F401

    from zeitbuch.app.parallel_work import share_work
    from zeitbuch.core.estimate.records import Sampling
    from zeitbuch.core.estimate.sampled_estate import estimate_flows, in_turn

    gc.set_threshold(200_000, 20, 100)  # as the program does
    card, assumed = figures(sampling == "days")
    flows = [made_flow(i) for i in range(count)]
    base = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    begun = time.perf_counter()
    how = Sampling(RUNS) if sampling == "sampled" else None
    result = estimate_flows(flows, card, assumed, "2026-11", how, share=in_turn if alone else share_work)
    spent = time.perf_counter() - begun
    mine = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    theirs = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    total = float(result.total.cost_month.amount)
    print(json.dumps({"seconds": spent, "estate": base, "memory": max(mine, theirs), "total": total}))


def bare(count: int) -> None:
    """The same arithmetic on the same plans as loops over bare arrays: draws, counts, costs; no records, no evidence."""
    import numpy as np
    from bare import bare_costs

    from zeitbuch.core.estimate.flow_figures import one_run
    from zeitbuch.core.pricing.call_prices import Prices

    card, assumed = figures()
    prices = Prices(card, (2026, 11))
    runs = [one_run(made_flow(i), assumed, prices, (2026, 11)) for i in range(count)]
    begun = time.perf_counter()
    total = 0.0
    for run in runs:
        total += float(bare_costs(run, prices, RUNS, np.random.default_rng(1)).mean())
    print(json.dumps({"seconds": time.perf_counter() - begun, "total": total / count}))


def ours(count: int) -> None:
    """Our sampled cost of the same flows, plans made before, in one process."""
    from zeitbuch.core.estimate.distribution import costs_of
    from zeitbuch.core.estimate.flow_figures import one_run
    from zeitbuch.core.pricing.call_prices import Prices

    card, assumed = figures()
    prices = Prices(card, (2026, 11))
    runs = [one_run(made_flow(i), assumed, prices, (2026, 11)) for i in range(count)]
    costs_of(runs[0], prices, RUNS)
    begun = time.perf_counter()
    total = sum(float(costs_of(run, prices, RUNS)[1].mean()) for run in runs)
    print(json.dumps({"seconds": time.perf_counter() - begun, "total": total / count}))


def apart(*words: str) -> dict[str, float]:
    done = subprocess.run(
        [sys.executable, __file__, *words], capture_output=True, text=True, check=True, cwd=Path(__file__).parent
    )
    return json.loads(done.stdout)


def main() -> None:
    if len(sys.argv) > 2:
        {
            "one": lambda: one(int(sys.argv[2]), sys.argv[3], len(sys.argv) > 4),
            "bare": lambda: bare(int(sys.argv[2])),
            "ours": lambda: ours(int(sys.argv[2])),
        }[sys.argv[1]]()
        return
    most = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    plain, by_days = zip(
        *[(apart("one", str(most), kind, "alone")["seconds"] for kind in ("exact", "days")) for _ in range(3)],
        strict=True,
    )
    ratio = sorted(b / a for a, b in zip(plain, by_days, strict=True))[1]
    print(
        f"exact means of {most:,} flows in a month with two changes of prices, against one with none: ratio {ratio:.2f}"
    )
    for kind in ("exact", "sampled"):
        found = apart("one", str(most), kind)
        print(
            f"{kind:8} {most:6,} flows x {STEPS} steps: {found['seconds']:7.2f} s, largest process {found['memory']:.0f} MB"
            f" (the estate itself {found['estate']:.0f} MB), {found['total']:,.2f} EUR a month"
        )
        points = []
        for size in [n for n in (100, 1000, 10_000) if n <= most]:
            points.append((size, apart("one", str(size), kind, "alone")["seconds"]))
            print(f"{kind:8} {size:6,} flows in one process: {points[-1][1]:7.2f} s")
        if len(points) > 1:
            (a, fa), (b, fb) = points[0], points[-1]
            print(f"{kind:8} grows with the power {math.log(fb / fa) / math.log(b / a):.2f} of the number of flows")
    few = min(most, 500)
    pairs = [(apart("ours", str(few))["seconds"], apart("bare", str(few))["seconds"]) for _ in range(3)]
    a, b = sorted(p[0] for p in pairs)[1], sorted(p[1] for p in pairs)[1]
    print(
        f"sampling {few} flows x {RUNS} runs: {a:.2f} s, bare loops over the same arrays {b:.2f} s, ratio {a / b:.2f}"
    )


if __name__ == "__main__":
    main()

"""Random flows for the benchmarks of maps: chains, decisions, parallel branches, long ways round, error routes, cycles, loops."""

from __future__ import annotations

import random

from zeitbuch.core.model.records import Flow, Link, Step, Trigger

VERBS = "Fetch Check Note Send Sort Read Write Ask Draft Match Split Weigh Print Count".split()
THINGS = "the berth,ticket refunds,delay notes,a crew list,letters,cargo papers,the log,lost bags,tide tables".split(
    ","
)


def made_flow(seed: int, steps: int, scopes: bool = True) -> Flow:
    """A random flow of about ``steps`` steps: what builders let people draw, and as untidy."""
    rng = random.Random(seed)
    made: list[Step] = []
    links: list[Link] = []

    def step(kind: str, scope: str | None) -> str:
        id = f"s{len(made)}"
        name = f"{rng.choice(VERBS)} {rng.choice(THINGS)}" + (" for the harbour office" if rng.random() < 0.2 else "")
        made.append(Step(id=id, name=name, kind=kind, operation=f"x.{kind}", scope=scope))  # type: ignore[arg-type]
        return id

    def region(count: int, scope: str | None, before: str | None, label: str = "") -> list[str]:
        """A run of steps; returns the open ends."""
        ends: list[tuple[str, str]] = [(before, label)] if before is not None else []
        own: list[str] = []

        def to(id: str) -> None:
            for end, words in ends:
                links.append(Link(source=end, target=id, role="case" if words else "next", label=words))
            own.append(id)

        while count > 0:
            roll = rng.random()
            if roll < 0.16 and count > 4:
                cases = rng.choice((2, 2, 2, 3, 4))
                decision = step("decide", scope)
                to(decision)
                count -= 1
                open_ends: list[tuple[str, str]] = []
                for case in range(cases):
                    size = min(count, rng.choice((1, 1, 2, 3, max(1, count // (2 * cases)))))
                    if size and not (case and rng.random() < 0.15):
                        count -= size
                        open_ends += [(e, "") for e in region(size, scope, decision, f"case {case + 1}")]
                    else:
                        open_ends.append((decision, f"case {case + 1}"))
                ends = open_ends
                if rng.random() < 0.2:
                    ends = ends[:1]
            elif roll < 0.24 and count > 4:
                fork = step("shape", scope)
                to(fork)
                count -= 1
                ends = []
                for _ in range(rng.choice((2, 3))):
                    size = min(count, rng.choice((1, 2, 3)))
                    if size:
                        count -= size
                        ends += [(e, "") for e in region(size, scope, fork)]
                ends = ends or [(fork, "")]
            elif roll < 0.3 and count > 5 and scopes:
                loop = step("loop", scope)
                to(loop)
                size = min(count - 1, rng.randint(2, 6))
                count -= 1 + size
                region(size, loop, None)
                ends = [(loop, "")]
            else:
                plain = step(rng.choice(("read", "shape", "send", "model", "write")), scope)
                to(plain)
                count -= 1
                ends = [(plain, "")]
        if len(own) > 4 and rng.random() < 0.35:
            a, b = sorted(rng.sample(range(len(own)), 2))
            links.append(Link(source=own[b], target=own[a], role="case", label="again"))
        if len(own) > 6 and rng.random() < 0.3:
            a, b = sorted(rng.sample(range(len(own)), 2))
            links.append(Link(source=own[a], target=own[b], role="error"))
        return [e for e, _ in ends]

    region(steps, None, "t")
    keep = {k: k for k in ((x.source, x.target, x.label) for x in links)}
    unique = [x for x in links if keep.pop((x.source, x.target, x.label), None)]
    return Flow(
        id=f"f{seed}",
        name=f"Made {seed}",
        triggers=(Trigger(id="t", kind="manual"),),
        steps=tuple(made),
        links=tuple(unique),
    )

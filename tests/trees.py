"""Flows drawn as trees, so that what each means can be counted without any graph: by trying every outcome."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from hypothesis import strategies as st
from msgspec import structs

from builders import START, flow
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.model.records import Flow, ItemFault, Link, Repeat, Retry, Step, Trigger

OTHER = Trigger(id="other", kind="manual")
Choose = Callable[[float], bool]


class Tree:
    """leaf | seq | decide | any | loop | until | fork | guard | agent; and at the very start fan: branches that part at a trigger."""

    def __init__(self, kind: str, parts: tuple[Tree, ...] = (), **more: Any) -> None:
        self.kind, self.parts, self.more = kind, parts, more
        self.key = ""

    def __repr__(self) -> str:
        inner = ", ".join([*map(repr, self.parts), *(f"{k}={v}" for k, v in self.more.items())])
        return f"{self.kind}({inner})"


RATES = st.sampled_from([0.0, 0.0, 0.25, 0.5])
LEAF = st.builds(
    lambda f, t, r, mode: Tree("leaf", f=f, t=t if f + t <= 1 else 0.0, r=r, mode=mode),
    RATES, st.sampled_from([0.0, 0.0, 0.0, 0.25]), st.integers(0, 1), st.sampled_from(["stop", "stop", "continue", "route", "late", "skip"]),
)  # fmt: skip


def _decide(parts: list[Tree], weights: list[float]) -> Tree:
    total = sum(weights[: len(parts)])
    return Tree("decide", tuple(parts), shares=[w / total for w in weights[: len(parts)]])


_STOPS = st.sampled_from([0, 0, 1, 2])  # a loop that ends at a loss, with so many rounds at a time; 0 goes on


def _inner(children: st.SearchStrategy[Tree]) -> st.SearchStrategy[Tree]:
    some = st.lists(children, min_size=2, max_size=3).map(tuple)
    weights = st.lists(st.sampled_from([0.2, 0.5, 1.0]), min_size=3, max_size=3)
    return (
        st.builds(lambda p: Tree("seq", p), some)
        | st.builds(_decide, some.map(list), weights)
        | st.builds(lambda p, w: Tree("any", p, shares=[min(0.9, x) for x in w[: len(p)]]), some, weights)
        | st.builds(
            lambda c, n, beside: Tree("loop", (c,), items=n, beside=beside),
            children,
            st.sampled_from([0, 1, 2, 3]),
            _STOPS,
        )
        | st.builds(
            lambda c, cap, beside: Tree("until", (c,), rounds=2.0, cap=cap, beside=min(beside, 1)),
            children,
            st.integers(1, 3),
            _STOPS,
        )
        | st.builds(lambda p: Tree("fork", p), some)
        | st.builds(lambda p: Tree("parallel", p), some)
        | st.builds(
            lambda c, e, f, r: Tree("guard", (c,), route=e, f=f, r=r), children, st.booleans(), RATES, st.integers(0, 1)
        )
        | st.builds(lambda n, k: Tree("agent", tools=n, turns=float(k)), st.integers(1, 2), st.integers(1, 3))
    )


TREES = st.recursive(LEAF, _inner, max_leaves=6)
# What a trigger begins: one branch, or several that meet again; or two triggers, each of which starts half of the runs, and of which the
# second begins the last branch only.
_FANS = st.builds(
    lambda parts, second: Tree("fan", parts, second=second),
    st.lists(TREES, min_size=2, max_size=3).map(tuple),
    st.booleans(),
)
STARTED = TREES | _FANS


def _until(tree: Tree) -> Repeat:
    fault: ItemFault | None = "stop" if tree.more.get("beside") else None
    return Repeat(until="done", cap=tree.more["cap"], on_item_fault=fault)


class Grower:
    """Makes the graph of a tree, with the assumptions that belong to it."""

    def __init__(self) -> None:
        self.steps: list[Step] = []
        self.links: list[Link] = []
        self.rules: list[Rule] = []

    def add(self, kind: Any, scope: str | None, loose: list[Link], **more: Any) -> str:
        key = f"n{len(self.steps)}"
        self.steps.append(Step(id=key, kind=kind, scope=scope, **more))
        for k in loose:
            self.links.append(Link(source=k.source, target=key, role=k.role, label=k.label, after=k.after))
        return key

    def grow(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        """Adds a tree after the loose ends; returns its own loose ends."""
        return getattr(self, f"_{tree.kind}")(tree, scope, loose)

    def _seq(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        for part in tree.parts:
            loose = self.grow(part, scope, loose)
        return loose

    def _leaf(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        f, t, r, mode = (tree.more[k] for k in ("f", "t", "r", "mode"))
        retry = Retry(attempts=r) if r else None
        tree.key = key = self.add(
            "http", scope, loose, retry=retry, on_fault="continue" if mode == "continue" else "stop"
        )
        self.rules.append(Rule(step=key, failure=f, timeout=t))
        out = [Link(source=key, target="")]
        if mode == "route":
            tree.more["aside"] = self.add("write", scope, [Link(source=key, target="", role="error")])
        elif mode == "late":
            tree.more["aside"] = self.add("write", scope, [Link(source=key, target="", after=("timeout",))])
            then = self.add("shape", scope, [Link(source=key, target="", after=("success", "failure"))])
            tree.more["then"] = then
            out = [Link(source=then, target="")]
        elif mode == "skip":
            # Something that runs only when what follows this step was left out.
            then = self.add("write", scope, [Link(source=key, target="", after=("success",))])
            tree.more["then"] = then
            tree.more["aside"] = self.add("write", scope, [Link(source=then, target="", after=("skip",))])
            out = [Link(source=then, target="")]
        return out

    def _decide(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        tree.key = key = self.add("decide", scope, loose, inclusive=tree.kind == "any")
        out: list[Link] = []
        for i, part in enumerate(tree.parts):
            self.rules.append(Rule(step=key, case=f"c{i}", share=tree.more["shares"][i]))
            out += self.grow(part, scope, [Link(source=key, target="", role="case", label=f"c{i}")])
        return out

    def _any(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        # What comes of an inclusive decision is counted, and not waited for.
        out = self._decide(tree, scope, loose)
        tree.more["meet"] = meet = self.add("join", scope, out, join="each")
        return [Link(source=meet, target="")]

    def _fork(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        tree.key = key = self.add("shape", scope, loose)
        out: list[Link] = []
        for part in tree.parts:
            out += self.grow(part, scope, [Link(source=key, target="")])
        tree.more["meet"] = meet = self.add("join", scope, out)
        return [Link(source=meet, target="")]

    def _fan(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        out: list[Link] = []
        for part in tree.parts:
            begun = (
                [*loose, Link(source=OTHER.id, target="")] if tree.more["second"] and part is tree.parts[-1] else loose
            )
            out += self.grow(part, scope, begun)
        tree.more["meet"] = meet = self.add("join", scope, out)
        return [Link(source=meet, target="")]

    def _loop(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        beside = tree.more.get("beside", 0)
        repeat = Repeat(items="letters", on_item_fault="stop") if beside else None
        tree.key = key = self.add("loop", scope, loose, repeat=repeat, concurrency=beside or None)
        self.rules.append(Rule(step=key, items=float(tree.more["items"])))
        self.grow(tree.parts[0], key, [])
        return [Link(source=key, target="")]

    def _until(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        tree.key = key = self.add("loop", scope, loose, repeat=_until(tree))
        self.rules.append(Rule(step=key, rounds=tree.more["rounds"]))
        self.grow(tree.parts[0], key, [])
        return [Link(source=key, target="")]

    def _parallel(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        tree.key = key = self.add("parallel", scope, loose)
        for part in tree.parts:
            self.grow(part, key, [])
        return [Link(source=key, target="")]

    def _guard(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        retry = Retry(attempts=tree.more["r"]) if tree.more.get("r") else None
        tree.key = key = self.add("guard", scope, loose, retry=retry)
        self.rules.append(Rule(step=key, failure=tree.more.get("f", 0.0)))
        self.grow(tree.parts[0], key, [])
        if tree.more["route"]:
            tree.more["aside"] = self.add("write", scope, [Link(source=key, target="", role="error")])
        return [Link(source=key, target="")]

    def _agent(self, tree: Tree, scope: str | None, loose: list[Link]) -> list[Link]:
        tree.key = key = self.add("agent", scope, loose)
        self.rules.append(Rule(step=key, turns=tree.more["turns"]))
        tree.more["keys"] = [self.add("tool", scope, []) for _ in range(tree.more["tools"])]
        self.links += [Link(source=t, target=key, role="attach") for t in tree.more["keys"]]
        return [Link(source=key, target="")]


def grown(tree: Tree) -> tuple[Flow, list[Rule]]:
    made = Grower()
    made.grow(tree, None, [Link(source=START.id, target="")])
    f = flow(made.steps, made.links)
    return structs.replace(f, triggers=(START, OTHER)) if tree.more.get("second") else f, made.rules


# -- the meaning, written out: so many passes arrive, so many go on; every single outcome is chosen by itself ---------


class Walk:
    """One run. ``choose`` decides every single thing; ``seen`` counts executions."""

    def __init__(self, choose: Choose) -> None:
        self.choose = choose
        self.seen: dict[str, float] = {}

    def count(self, key: str, times: float) -> None:
        self.seen[key] = self.seen.get(key, 0) + times

    def walk(self, tree: Tree, n: int, turn: int) -> tuple[int, int]:
        """Passes that go on when ``n`` arrive, and those lost without anything that takes them. ``turn`` is how many
        could have come: a step that they do not reach is skipped, and so is all that follows it."""
        turn = max(turn, n)
        if tree.kind in ("seq", "leaf", "decide", "any", "fork", "fan"):
            return getattr(self, f"_{tree.kind}")(tree, n, turn)
        if tree.kind == "guard":
            return self._guard(tree, n)
        self.count(tree.key, n)
        out = n
        if tree.kind == "agent":
            for key in tree.more["keys"]:
                self.count(key, n * (tree.more["turns"] - 1) / tree.more["tools"])
        elif tree.more.get("beside"):
            out = sum([self._until_lost(tree) for _ in range(n)])
        elif tree.kind == "loop":
            self._walk_each(tree.parts, n * tree.more["items"])
        elif tree.kind == "until":
            self._walk_each(tree.parts, sum(self._rounds(tree) for _ in range(n)))
        else:
            out = self._walk_each(tree.parts, n)
        return out, n - out

    def _guard(self, tree: Tree, n: int) -> tuple[int, int]:
        """What a scope holds runs in every attempt; a pass goes on when one attempt and all in it went well."""
        out = 0
        for _ in range(n):
            for _ in range(tree.more.get("r", 0) + 1):
                self.count(tree.key, 1)
                inside = self._walk_each(tree.parts, 1)
                if not self.choose(tree.more.get("f", 0.0)) and inside:
                    out += 1
                    break
        if "aside" in tree.more:
            self.count(tree.more["aside"], n - out)
            return out, 0
        return out, n - out

    def _walk_each(self, parts: tuple[Tree, ...], n: int) -> int:
        """Passes of a block, one after the other: of how many nothing got lost in any of its parts."""
        return sum([max([self.walk(part, 1, 0)[1] for part in parts]) == 0 for _ in range(n)])

    def _until_lost(self, tree: Tree) -> bool:
        """One pass of a loop that ends at the first round that is lost; rounds that run beside it have begun by then. Whether none is."""
        whole: list[bool] = []
        most = tree.more["items"] if tree.kind == "loop" else tree.more["cap"]
        while len(whole) < most and all(whole[: max(0, len(whole) + 1 - tree.more["beside"])]):
            whole.append(self._walk_each(tree.parts, 1) == 1)
            ends = tree.kind == "until" and len(whole) < most and whole[-1]
            if ends and not self.choose(1 - 1 / tree.more["rounds"]):
                break
        return all(whole)

    def _rounds(self, tree: Tree) -> int:
        for turn in range(1, tree.more["cap"]):
            if not self.choose(1 - 1 / tree.more["rounds"]):
                return turn
        return tree.more["cap"]

    def _seq(self, tree: Tree, n: int, turn: int) -> tuple[int, int]:
        lost = 0
        for part in tree.parts:
            turn = max(turn, n)
            n, gone = self.walk(part, n, turn)
            lost += gone
        return n, lost

    def _fork(self, tree: Tree, n: int, turn: int) -> tuple[int, int]:
        self.count(tree.key, n)
        if n < 2 or any(_multiplies(part) for part in tree.parts):
            waves = [(n, turn)]
        else:  # what is lost on one branch is not paired with what came through on the other: one pass after the other
            waves = [(1, 1)] * n + [(0, turn - n)] * (turn > n)
        out = lost = 0
        for passes, at in waves:
            ends = [self.walk(part, passes, at) for part in tree.parts]
            out += min(end[0] for end in ends)
            lost += sum(end[1] for end in ends)
        self.count(tree.more["meet"], out)
        return out, lost

    def _fan(self, tree: Tree, n: int, turn: int) -> tuple[int, int]:
        """One run of either trigger: what it does not begin is not skipped either."""
        begun = tree.parts if not tree.more["second"] or self.choose(0.5) else tree.parts[-1:]
        for part in tree.parts:
            if part not in begun:
                self.walk(part, 0, 0)
        ends = [self.walk(part, n, turn) for part in begun]
        out = min(end[0] for end in ends)
        self.count(tree.more["meet"], out)
        return out, sum(end[1] for end in ends)

    def _any(self, tree: Tree, n: int, turn: int) -> tuple[int, int]:
        return self._decide(tree, n, turn)

    def _decide(self, tree: Tree, n: int, turn: int) -> tuple[int, int]:
        self.count(tree.key, n)
        taken = [0] * len(tree.parts)
        for _ in range(n):
            room = 1.0
            for i, share in enumerate(tree.more["shares"]):
                if tree.kind == "any":
                    taken[i] += self.choose(share)
                elif self.choose(min(1.0, share / room)):
                    taken[i] += 1
                    break
                else:
                    room -= share
        ends = [self.walk(p, k, turn) for p, k in zip(tree.parts, taken, strict=True)]
        out = sum(e[0] for e in ends)
        if "meet" in tree.more:
            self.count(tree.more["meet"], out)
        return out, sum(e[1] for e in ends)

    def _leaf(self, tree: Tree, n: int, turn: int) -> tuple[int, int]:
        f, t, mode = tree.more["f"], tree.more["t"], tree.more["mode"]
        ok = failed = late = 0
        for _ in range(n):
            for attempt in range(tree.more["r"] + 1):
                self.count(tree.key, 1)
                if not self.choose(f + t):
                    ok += 1
                    break
                if attempt == tree.more["r"]:
                    if self.choose(t / (f + t)):
                        late += 1
                    else:
                        failed += 1
        if mode == "continue":
            return n, 0
        if mode == "late":
            self.count(tree.more["aside"], late)
            self.count(tree.more["then"], ok + failed)
            return ok + failed, 0
        if mode == "route":
            self.count(tree.more["aside"], failed + late)
            return ok, 0
        if mode == "skip":
            self.count(tree.more["then"], ok)
            self.count(tree.more["aside"], turn - ok)
        return ok, failed + late


def _multiplies(tree: Tree) -> bool:
    """Whether more may go on from a tree than arrives: behind an inclusive decision all that comes is counted."""
    return tree.kind == "any" or (tree.kind in ("seq", "decide", "fork") and any(map(_multiplies, tree.parts)))


def outcomes(tree: Tree, most: int) -> Iterator[tuple[float, dict[str, float]]]:
    """Every outcome of one run with its probability. Raises OverflowError when there are more than ``most``."""
    waiting: list[list[bool]] = [[]]
    count = 0
    while waiting:
        script = waiting.pop()
        at, weight = 0, 1.0

        def choose(p: float, script: list[bool] = script) -> bool:
            nonlocal at, weight
            if p <= 0 or p >= 1:
                return p >= 1
            if at == len(script):
                waiting.append([*script, False])
                script.append(True)
            at += 1
            weight *= p if script[at - 1] else 1 - p
            return script[at - 1]

        run = Walk(choose)
        run.walk(tree, 1, 1)
        count += 1
        if count > most:
            raise OverflowError
        yield weight, run.seen


def expected(tree: Tree, most: int = 4000) -> dict[str, float]:
    """Executions of every step, over all outcomes."""
    total: dict[str, float] = {}
    mass = 0.0
    for weight, seen in outcomes(tree, most):
        mass += weight
        for key, times in seen.items():
            total[key] = total.get(key, 0.0) + weight * times
    assert abs(mass - 1) < 1e-9
    return total

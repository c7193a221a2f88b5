"""Flows that call each other and branches that meet, as whole processes: python benchmarks/call_graph.py [ROUNDS]."""

from __future__ import annotations

import itertools
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

ZEITBUCH = str(Path(sys.executable).parent / "zeitbuch")
RATES = Path(__file__).parent.parent / "src" / "zeitbuch" / "demo" / "estate" / "rates.toml"
DAILY = {"id": "t", "kind": "schedule", "schedule": {"every": 86400}}
CALLED = {"id": "t", "kind": "call"}
ASK = {"id": "ask", "kind": "model", "name": "Ask", "model": {"name": "fulmar-large-2"}}


def made(key: str, trigger: dict[str, Any], steps: list[dict[str, Any]]) -> dict[str, Any]:
    links = [{"source": "t", "target": step["id"]} for step in steps]
    return {"id": key, "name": f"Flow {key}", "triggers": [trigger], "steps": steps, "links": links}


def call(key: str) -> dict[str, Any]:
    return {"id": f"to {key}", "kind": "subflow", "name": f"Call {key}", "calls": key}


def levels(count: int) -> list[dict[str, Any]]:
    """Two flows a level; each calls both of the next, so that there are 2 ** count ways to the last level."""
    flows = []
    for level in range(count):
        steps = [ASK] if level == count - 1 else [call(f"{level + 1}{side}") for side in "ab"]
        flows += [made(f"{level}{side}", CALLED if level else DAILY, steps) for side in "ab"]
    return flows


def chain(count: int) -> list[dict[str, Any]]:
    return [made(str(i), CALLED if i else DAILY, [call(str(i + 1))] if i < count - 1 else [ASK]) for i in range(count)]


def cases(count: int) -> list[dict[str, Any]]:
    """One decision whose cases all meet in one join."""
    names = [f"c{i}" for i in range(count)]
    steps = [{"id": "d", "kind": "decide"}, *[{"id": n, "kind": "shape"} for n in names], {"id": "j", "kind": "join"}]
    links = [{"source": "t", "target": "d"}]
    links += [{"source": "d", "target": n, "role": "case", "label": n} for n in names]
    links += [{"source": n, "target": "j"} for n in names]
    return [{"id": "f", "name": "Flow", "triggers": [DAILY], "steps": steps, "links": links}]


def started(count: int) -> list[dict[str, Any]]:
    """Branches that begin with the trigger and all meet in one step."""
    names = [f"c{i}" for i in range(count)]
    links = [link for n in names for link in ({"source": "t", "target": n}, {"source": n, "target": "j"})]
    steps = [{"id": n, "kind": "http"} for n in [*names, "j"]]
    return [{"id": "f", "name": "Flow", "triggers": [DAILY], "steps": steps, "links": links}]


def failing(count: int) -> list[dict[str, Any]]:
    """A chain of which every step leads to the one that takes failures."""
    names = ["t", *[f"c{i}" for i in range(count)]]
    links = [{"source": a, "target": b} for a, b in itertools.pairwise(names)]
    links += [{"source": n, "target": "j", "role": "error"} for n in names[1:]]
    steps = [{"id": n, "kind": "http"} for n in [*names[1:], "j"]]
    return [{"id": "f", "name": "Flow", "triggers": [DAILY], "steps": steps, "links": links}]


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    rows = (
        ("22 levels", levels(22), []),
        ("chain of 5,000", chain(5000), ["--runs", "0"]),
        ("1,000 cases", cases(1000), []),
        ("2,500 started", started(2500), []),
        ("1,000 failing", failing(1000), []),
    )
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_CACHE_HOME"] = folder
        for name, flows, options in rows:
            path = Path(folder) / "flows.json"
            path.write_text(json.dumps({"zeitbuch": 1, "flows": flows}))
            command = [
                ZEITBUCH,
                "estimate",
                str(path),
                "--rates",
                str(RATES),
                "-q",
                "-f",
                "csv",
                "--no-cache",
                *options,
            ]
            times = []
            for _ in range(rounds):
                begun = time.perf_counter()
                subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
                times.append(time.perf_counter() - begun)
            print(f"{name:<16} {statistics.median(times):6.2f} s")


if __name__ == "__main__":
    main()

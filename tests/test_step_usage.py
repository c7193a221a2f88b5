"""What usage logs have of steps: counts, durations, failures, shares of cases, the busiest way; on maps, in documents and explanations."""

from __future__ import annotations

import csv
import random
import subprocess
import sys
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from builders import ask, chain, flow, link, step
from conftest import Ran, Run
from zeitbuch.app.step_usage import actuals_of_logs, step_timing
from zeitbuch.app.usage import OpenLog
from zeitbuch.core.actuals.busiest_way import busiest_way
from zeitbuch.core.actuals.case_shares import counted_shares
from zeitbuch.core.actuals.reconcile import Asked, Basis
from zeitbuch.core.actuals.step_records import CaseShare, FlowActuals, StepActual
from zeitbuch.core.actuals.usage_mapping import UsageMapping
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.calibrate.fitted_shares import fitted_shares
from zeitbuch.core.calibrate.records import Measured
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.model.words import took_words
from zeitbuch.core.report.usage_overlay import duration_words, limit_words, marks_of_usage, share_words
from zeitbuch.readers.usage.usage_log import read_usage

HEAD = ("at", "flow", "run", "step", "took", "ended", "env", "model", "n")
BEGIN = datetime(2026, 11, 2, 8)
COLUMNS: dict[str, Any] = {
    "time": "at", "flow": "flow", "run": "run", "step": "step", "duration": "took", "status": "ended", "environment": "env",
}  # fmt: skip


def line(
    step_id: str, took: float | str = 1.0, run: object = "r", minutes: float = 0, **more: object
) -> dict[str, object]:
    moment = BEGIN + timedelta(minutes=minutes)
    made = {"at": moment.isoformat(sep=" "), "flow": "f", "run": run, "step": step_id, "took": took, "ended": "ok"}
    return made | {"env": "prod", "model": "", "n": 1} | more


def actuals(
    folder: Path,
    flows: Flow | list[Flow],
    *logs: tuple[list[dict[str, Any]], dict[str, Any]],
    asked: Asked = Asked(),  # noqa: B008
) -> dict[str, FlowActuals]:
    """Logs of lines, each with what its mapping says."""
    known = flows if isinstance(flows, list) else [flows]
    side = Basis(Estate(flows=tuple(known)), None, Assumptions())
    opened = []
    for number, (lines, settings) in enumerate(logs):
        path = folder / f"log{number}.csv"
        with path.open("w", newline="") as file:
            rows = csv.DictWriter(file, HEAD)
            rows.writeheader()
            rows.writerows(lines)
        rules = {"zone": "UTC", "line": "step", "failed": ["bad"], "not_production": ["test"], "column": COLUMNS}
        mapping = UsageMapping(**rules | settings)
        found = read_usage([str(path)], mapping, step_timing(side, known, asked))
        assert not found.problems, found.problems[:2]
        opened.append(OpenLog(str(path), found.mapping, found))
    return actuals_of_logs(opened, side, known, asked)


def of_step(folder: Path, lines: list[dict[str, Any]], asked: Asked = Asked(), **settings: Any) -> StepActual:  # noqa: B008
    """What a log has of the one step of a flow."""
    (found,) = actuals(folder, chain(ask("a", timeout=60.0)), (lines, settings), asked=asked).values()
    (one,) = found.steps
    return one


def test_mean_and_p90_are_those_of_the_single_lines(tmp_path: Path) -> None:
    rng = random.Random(1)
    took = [round(rng.lognormvariate(2, 1), 3) for _ in range(400)]
    lines = [line("a" if place % 2 else "A ", one, f"r{place}", place) for place, one in enumerate(took)]
    one = of_step(tmp_path, lines)
    assert one.passes == 400 and one.calls is None and one.times is not None
    assert one.times.mean == pytest.approx(sum(took) / 400)
    assert one.times.p90 == pytest.approx(np.quantile(took, 0.9))
    assert one.times.at_limit == sum(value >= 60 for value in took)


def test_a_step_under_two_names_has_one_p90(tmp_path: Path) -> None:
    lines = [line("a" if place < 50 else "once a", place, f"r{place}", place) for place in range(100)]
    one = of_step(tmp_path, lines, steps={"f/once a": "f/a"})
    assert one.times is not None and one.times.p90 == pytest.approx(np.quantile(range(100), 0.9))


def test_other_days_and_environments_are_left_out(tmp_path: Path) -> None:
    lines = [
        line("a", 1.0, "r1"),
        line("a", 99.0, "r2", env="Test"),
        line("a", 5.0, "r3", 3 * 1440),
        line("a", "", "r4"),
    ]
    one = of_step(tmp_path, lines)
    assert one.passes == 3 and one.times is not None and (one.times.lines, one.times.mean) == (2, 3.0)
    late = of_step(tmp_path, lines, Asked(first=date(2026, 11, 4)))
    assert late.passes == 1 and late.times is not None and late.times.mean == 5.0


def test_a_line_of_several_calls_says_nothing_of_one(tmp_path: Path) -> None:
    lines = [line("a", 2.0, n=1), line("a", 50.0, n=20, minutes=1)]
    columns = COLUMNS | {"calls": "n"}
    one = of_step(tmp_path, lines, line="call", column=columns)
    assert one.calls == 21 and one.times is not None and (one.times.lines, one.times.p90) == (1, 2.0)
    sums = of_step(tmp_path, lines, line="sum", column=columns)
    assert sums.times is not None and sums.times.mean == pytest.approx(52 / 21) and sums.times.p90 is None
    assert sums.ended == 0  # how many of the calls failed no sum says


def test_no_word_of_failures_is_not_none_failed(tmp_path: Path) -> None:
    lines = [line("a", ended="bad"), line("a", minutes=1)]
    assert (of_step(tmp_path, lines).failed, of_step(tmp_path, lines).ended) == (1, 2)
    silent = of_step(tmp_path, lines, failed=[])
    assert silent.ended == 0
    graph = Graph(chain(ask("a")))
    found = actuals(tmp_path, graph.flow, (lines, {"failed": []}))["f"]
    assert marks_of_usage(graph, found, "failures").scale == "the log has no failures of this flow's steps"
    assert marks_of_usage(graph, None, "runs").scale == "the log has no line of this flow"


def test_lines_without_a_step_are_of_the_only_one_that_calls_their_model(tmp_path: Path) -> None:
    columns = {"time": "at", "flow": "flow", "model": "model"}
    two = chain(ask("a", name="big"), ask("b", name="small"))
    lines = [line("", model="big"), line("", model="small", minutes=1), line("", model="strange", minutes=2)]
    found = actuals(tmp_path, two, (lines, {"line": "call", "column": columns}))["f"]
    assert {one.id: one.calls for one in found.steps} == {"a": 1, "b": 1} and found.unplaced == 1
    same = chain(ask("a", name="big"), ask("b", name="big"))
    assert actuals(tmp_path, same, (lines, {"line": "call", "column": columns}))["f"].unplaced == 3
    alone = chain(ask("a", name="big"))
    found = actuals(tmp_path, alone, (lines, {"line": "call", "column": columns}))["f"]
    assert [one.calls for one in found.steps] == [3]


@pytest.mark.parametrize(
    ("runs", "number"),
    [
        ([("r1", 0), ("r1", 960), ("r2", 10)], 2),  # over midnight
        (
            [(f"r{place}", place * 60 + wait) for place in range(30) for wait in (0, 20 * 1440)],
            30,
        ),  # a person is waited for
        ([(place, day * 1440 + place) for day in range(12) for place in range(5)], 60),  # ids begin anew on each day
    ],
)
def test_runs_are_counted_once(runs: list[tuple[object, float]], number: int, tmp_path: Path) -> None:
    lines = [line("a", run=key, minutes=minutes) for key, minutes in runs]
    assert actuals(tmp_path, chain(ask("a")), (lines, {}))["f"].runs == number


def test_two_logs_of_one_flow_are_put_together(tmp_path: Path) -> None:
    """The platform's log says how long passes took, the model host's how many calls they were."""
    one = chain(ask("a"))
    steps = [line("a", 3.0, f"r{place}", place) for place in range(10)]
    calls = [line("a", 1.0, f"r{place}", place, model="fulmar-mini-2") for place in range(10) for _ in range(2)]
    calls = [row | {"took": 1.0 + place / 100} for place, row in enumerate(calls)]
    found = actuals(tmp_path, one, (steps, {}), (calls, {"line": "call"}))["f"]
    (made,) = found.steps
    assert (made.passes, made.calls, found.runs) == (10, 20, 10)
    assert made.times_of == "pass" and made.times is not None and made.times.mean == 3.0
    # A log that tells no runs leaves the days unknown on which it alone has lines.
    no_run = {key: name for key, name in COLUMNS.items() if key != "run"}
    later = [line("a", 1.0, minutes=5 * 1440)]
    assert actuals(tmp_path, one, (steps, {}), (later, {"line": "call", "column": no_run}))["f"].runs is None


def test_logs_of_different_days_say_nothing_by_the_run(tmp_path: Path) -> None:
    one = chain(ask("a"))
    steps = [line("a", 3.0, f"r{place}", place) for place in range(10)]
    calls = [line("a", 1.0, f"q{place}", place + 1440 * (place % 3), model="fulmar-mini-2") for place in range(30)]
    found = actuals(tmp_path, one, (steps, {}), (calls, {"line": "call"}))["f"]
    marks = marks_of_usage(Graph(one), found, "runs")
    assert not found.same_days and marks.meters["a"][0] == "10 passes"


def test_a_call_of_an_agent_is_not_held_against_the_limit_of_its_pass(tmp_path: Path) -> None:
    agent = chain(ask("a", kind="agent", timeout=60.0))
    lines = [line("a", 70.0, f"r{place}", place) for place in range(10)]
    of_calls = actuals(tmp_path, agent, (lines, {"line": "call"}))["f"].steps[0]
    assert duration_words(of_calls) == "mean 1.17 min a call, P90 1.17 min" and not limit_words(of_calls)
    of_passes = actuals(tmp_path, agent, (lines, {}))["f"].steps[0]
    assert duration_words(of_passes) == "mean 1.17 min, P90 1.17 min of 1 min"
    assert limit_words(of_passes) == "10 of 10 reached the time limit"


def test_a_share_that_changed_is_told_with_its_day() -> None:
    def measured(low: float, high: float, **more: Any) -> Measured:
        return Measured(
            "f",
            "F",
            "",
            "share",
            0.4,
            low,
            high,
            300,
            "runs",
            "2026-10-01",
            "2026-11-30",
            None,
            None,
            step="d",
            case="yes",
            **more,
        )

    (yes, no) = fitted_shares(Graph(SPLIT), [measured(0.35, 0.45, since="2026-11-05")])
    assert (share_words(yes), share_words(no)) == ("about 40 % since 2026-11-05", "about 60 % since 2026-11-05")
    assert fitted_shares(Graph(SPLIT), [measured(0.1, 0.7)]) == []  # too wide to be said as one figure
    assert fitted_shares(Graph(SPLIT), [measured(0.35, 0.45, alone=False)]) == []


SPLIT = flow(
    [step("d", "decide"), ask("a"), step("b", "send"), step("c", "send")],
    [link("start", "d"), link("d", "a", "case", "yes"), link("d", "b", "case", "no"), link("a", "c"), link("b", "c")],
)


def passes(**numbers: float) -> list[StepActual]:
    return [StepActual(key, passes=number) for key, number in numbers.items()]


def shares(one: Flow, **numbers: float) -> dict[str, float]:
    return {share.label: round(share.share, 3) for share in counted_shares(Graph(one), passes(**numbers))}


def test_shares_are_counted() -> None:
    assert shares(SPLIT, d=100, a=30, b=70, c=100) == {"yes": 0.3, "no": 0.7}
    assert shares(SPLIT, d=29, a=9, b=20) == {}  # too few to say
    assert shares(SPLIT, d=100, a=130, b=70) == {}  # tries or items, and not passes
    assert shares(SPLIT, d=100, a=30, c=30) == {
        "yes": 0.3,
        "no": 0.0,
    }  # the log has steps of the kind of b, and none of b
    assert shares(SPLIT, d=100, a=30) == {
        "yes": 0.3,
        "no": 0.7,
    }  # no step that sends is in the log: it keeps other kinds


def test_what_several_lead_to_is_what_the_others_leave_and_only_of_a_whole() -> None:
    def decided(label: str, **more: Any) -> Flow:
        return flow(
            [step("d", "decide", **more), ask("a"), step("c", "send")],
            [link("start", "d"), link("d", "a", "case", "yes"), link("d", "c", "case", label), link("a", "c")],
        )

    assert shares(decided("no"), d=100, a=30, c=100) == {"yes": 0.3, "no": 0.7}
    assert shares(decided("no", inclusive=True), d=100, a=30, c=100) == {"yes": 0.3}
    unusual = flow(
        [step("d", "decide"), ask("a"), step("c", "send")],
        [link("start", "d"), link("d", "a", "case", "red"), link("d", "c", "case", "blue"), link("a", "c")],
    )
    assert shares(unusual, d=100, a=30, c=60) == {"red": 0.3}  # what fits neither case leads on nowhere


@pytest.mark.parametrize(
    ("known", "led"),
    [
        ({"a": 0.7, "b": 0.3}, {"d", "a", "c"}),
        ({"a": 0.3, "b": 0.7}, {"d", "b", "c"}),
        ({"a": 0.6}, {"d", "a", "c"}),
        ({"a": 0.4}, {"d"}),  # the other may be taken more often
    ],
)
def test_the_busiest_way_is_not_guessed(known: dict[str, float], led: set[str]) -> None:
    labels = {"a": "yes", "b": "no"}
    told = [CaseShare("d", key, labels[key], share, 100, True) for key, share in known.items()]
    assert {target for _, target, _ in busiest_way(Graph(SPLIT), told)} == led
    assert busiest_way(Graph(SPLIT), []) == frozenset()


@pytest.mark.parametrize("seed", range(6))
def test_of_runs_simulated_one_by_one_the_log_says_what_happened(seed: int, tmp_path: Path) -> None:
    rng = random.Random(seed)
    odds, lines, taken = rng.random(), [], {"a": 0, "b": 0}
    for number in range(200):
        way = "a" if rng.random() < odds else "b"
        taken[way] += 1
        at = number * 97.0
        for key in ("d", way, "c"):
            lines.append(line(key, round(rng.expovariate(0.2), 2), f"r{number}", at))
            at += rng.random()
    rng.shuffle(lines)
    found = actuals(tmp_path, SPLIT, (lines, {}))["f"]
    assert found.runs == 200 and found.first_day == "2026-11-02"
    assert {one.id: one.passes for one in found.steps} == {k: v for k, v in {"d": 200, **taken, "c": 200}.items() if v}
    told = {one.target: one.share for one in found.shares}
    assert told == {key: pytest.approx(number / 200) for key, number in taken.items()}


@pytest.mark.parametrize(
    ("seconds", "words"),
    [
        (0, "0 s"),
        (0.0312, "0.031 s"),
        (59.4, "59 s"),
        (90, "1.5 min"),
        (16021, "4.45 h"),
        (244198, "2.83 days"),
        (None, ""),
    ],
)
def test_times_in_words(seconds: float | None, words: str) -> None:
    assert took_words(seconds) == words


# -- the commands -----------------------------------------------------------------------------------------------------

STEPS = ("--mapping", "usage/steps.toml")
SWAPS = "Crew swap approvals"


def answered(ran: Ran) -> str:
    assert ran.code == 0, ran.err
    return ran.out


def test_maps_show_what_happened(run: Run, demo: Path) -> None:
    svg = answered(run("map", "--flow", SWAPS, "--show", "runs", *STEPS, "--format", "svg", cwd=demo))
    assert "330 passes, 0.623 a run" in svg and "allowed · 62 %" in svg and svg.count('stroke-width="2.8"') == 6
    text = answered(run("map", "--flow", SWAPS, "--show", "duration", *STEPS, "--format", "text", cwd=demo))
    assert "▶ 6 Shift leader approves" in text and "mean 4.45 h, P90 10.7 h of 12 h" in text
    assert "slowest · 26 of 330 reached the time limit" in text
    assert text.splitlines()[-1] == "durations in the log, 2026-10-01 to 2026-11-30"
    dot = answered(run("map", "--flow", SWAPS, "--show", "failures", *STEPS, "--format", "dot", cwd=demo))
    assert "17 of 304 failed (6 %)" in dot
    cost = answered(
        run("map", "--flow", "Berth delay notices", "--show", "actual-cost", "--format", "mermaid", cwd=demo)
    )
    assert "0.64 EUR" in cost
    page = answered(run("map", "--flow", SWAPS, *STEPS, "--format", "html", cwd=demo))
    assert "What really happened" in page and "330 passes" in page
    some = answered(
        run("map", "--flow", SWAPS, "--show", "runs", *STEPS, "--from", "2026-11-30", "--format", "text", cwd=demo)
    )
    assert "2026-11-30 to 2026-11-30" in some


def test_documents_and_explanations_say_what_happened(run: Run, demo: Path) -> None:
    said = answered(run("explain", SWAPS, *STEPS, cwd=demo))
    assert "530 runs on 61 days from 2026-10-01 to 2026-11-30." in said and "26 of 330" in said
    of_step = answered(run("explain", SWAPS, "6", *STEPS, cwd=demo))
    assert "330 passes, 0.623 a run" in of_step
    calls = answered(run("explain", "Weather warnings", "--usage", cwd=demo))
    assert "calm about 90 % (as the calls of 2,671 runs say)" in calls and "stop about" not in calls
    assert "The logs do not say how steps ended or how long they took." in calls
    answered(
        run(
            "document",
            "--flow",
            SWAPS,
            "--flow",
            "Sailing statistics",
            *STEPS,
            "-o",
            "out",
            "--format",
            "markdown",
            cwd=demo,
        )
    )
    page = next((demo / "out").glob("crew-swap*.md")).read_text()
    assert "What the usage logs say" in page and "6 Shift leader approves" in page and "330 passes" in page
    other = next(
        path for path in (demo / "out").glob("*.md") if "Sailing statistics" in path.read_text().splitlines()[0]
    )
    assert "The logs have no line of this flow." in other.read_text()


def test_what_cannot_be_asked_is_refused(run: Run, demo: Path) -> None:
    for words, told in (
        (("map", "--estate", "--show", "runs"), "expected no --show runs beside --estate"),
        (("map", "--flow", SWAPS, "--from", "2026-11-01"), "expected --usage or --mapping beside --from and --to"),
        (("map", "--flow", SWAPS, "--show", "runs", *STEPS, "--from", "1.11."), "expected a day as YYYY-MM-DD"),
        (("explain", SWAPS, "--case", "allowed", "--usage"), "expected no --usage beside --case"),
        (("map", "--flow", SWAPS, "--show", "runs", "--mapping", "nowhere.toml"), "nowhere.toml"),
        (
            ("map", "--flow", SWAPS, "--show", "runs", *STEPS, "--from", "2027-01-01"),
            "expected lines of usage with a day",
        ),
    ):
        refused = run(*words, cwd=demo)
        assert refused.code == 2 and told in refused.err


def test_a_map_without_figures_of_logs_loads_nothing_that_reads_them(demo: Path) -> None:
    words = ["map", "--flow", SWAPS, "-o", "x.svg", "--quiet"]
    script = f"import sys; from zeitbuch.cli.main import main; main({words}); print([m for m in sys.modules if 'rapidfuzz' in m or 'ibis' in m])"
    done = subprocess.run([sys.executable, "-c", script], cwd=demo, capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"

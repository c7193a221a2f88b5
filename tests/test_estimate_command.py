"""The estimate command's views, spans, drivers, reasons, charts and budgets, driven as a program on the demo."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

import zeitbuch
from zeitbuch.core.model.records import Estate


def machine(run: Any, demo: Path, *words: str) -> Any:
    code, out, err = run("estimate", *words, "-f", "json", cwd=demo)
    assert code == 0, err
    return json.loads(out)


def test_distributions_stand_and_repeat(demo: Path, run: Any) -> None:
    first, second = machine(run, demo), machine(run, demo)
    assert first == second
    for f in first["flows"]:
        s = f["spread"]
        assert s["p5"] <= s["p25"] <= s["p50"] <= s["p75"] <= s["p90"] <= s["p95"] <= s["p99"]
        if s["mean"]:
            assert s["error"] <= 0.0101 * s["mean"] or s["runs"] == 16_000 or s["runs"] == 32_000
            assert s["mean"] == pytest.approx(float(f["with_called"]["amount"]), rel=0.05)
        if f["month_spread"]:
            bill = float(f["cost_month"]["amount"]) + float((f["meters_month"] or {"amount": 0})["amount"])
            assert f["month_spread"]["mean"] == pytest.approx(bill, rel=0.03, abs=1e-9)
    assert machine(run, demo, "--runs", "0")["flows"][0]["spread"] is None
    assert machine(run, demo, "--runs", "500")["flows"][0]["spread"]["runs"] == 500


@pytest.mark.parametrize("by", ["step", "model", "connection", "owner", "environment", "host", "meter"])
def test_groups_add_up_to_the_estate(by: str, demo: Path, run: Any) -> None:
    whole = machine(run, demo)["total"]
    wanted = sum(float(whole[part]["amount"]) for part in ("cost_month", "meters_month", "fees_month"))
    rows = machine(run, demo, "--by", by)["groups"]
    assert sum(float(r["cost"]["amount"]) for r in rows) == pytest.approx(wanted)
    code, out, _ = run("estimate", "--by", by, cwd=demo)
    assert code == 0 and f"Estimate by {by}" in out


def test_spans(demo: Path, run: Any, november: Estate) -> None:
    for span in ("run", "month", "year"):
        code, out, err = run("estimate", "--per", span, cwd=demo)
        assert code == 0 and "P99" in out and f"EUR/{span}" in out, err
    year = machine(run, demo, "--month", "2026")
    files = str(demo / "rates.toml"), str(demo / "assumptions.toml")
    months = [zeitbuch.estimate(november, *files, month=f"2026-{m:02d}").result.total for m in range(1, 13)]
    total = sum(float(m.cost_month.amount) for m in months)
    # An average month takes the mean of volumes and of prices; months multiply them first.
    assert 12 * float(year["total"]["cost_month"]["amount"]) == pytest.approx(total, rel=0.02)
    assert year["total"]["year_spread"]["p90"] > year["total"]["spread"]["p90"]


def test_drivers_and_reasons(demo: Path, run: Any) -> None:
    found = machine(run, demo, "--drivers", "--flow", "Cargo papers screening")["drivers"]
    swings = [abs(float(d["at_high"]) - float(d["at_low"])) for d in found]
    assert swings == sorted(swings, reverse=True) and len(found) > 5
    runs = next(d for d in found if d["quantity"] == "runs")
    # Models and meters: a stair of the meter makes the last units dearer.
    assert float(runs["at_high"]) == pytest.approx(1.25 * float(runs["cost"]), rel=0.005)
    assert machine(run, demo, "--drivers", "--per", "run", "--flow", "Cargo papers screening")["per"] == "run"
    code, out, _ = run("estimate", "--why", "Cargo papers screening/Extract the goods", cwd=demo)
    assert (
        code == 0
        and "assumptions for Cargo papers screening/Extract the goods" in out
        and "tokens out, per run" in out
        and "rate card: per 1,000,000 input tokens, from 2026-01-01" in out
    )
    code, out, _ = run("estimate", "--why", "Lost property matching", "-f", "csv", cwd=demo)
    assert code == 0 and "checks per month" in out and "mailbox log, October" in out
    code, _, err = run("estimate", "--why", "Customer letters/Nothing", cwd=demo)
    assert code == 2 and "expected the id, number or name of a step of 'Customer letters'" in err
    rows = machine(run, demo, "--why", "Customer letters")["rows"]
    assert {"step", "what", "value", "evidence", "source"} == set(rows[0])


def test_the_numbers_of_a_flow_add_up_to_its_bill(demo: Path, run: Any) -> None:
    """Parts with a cost sum to the cost of a run; runs and meters make the month of it."""
    for name in ("Customer letters", "Safety handbook assistant", "Lost property matching"):
        rows = machine(run, demo, "--why", name)["rows"]
        costs = [
            float(r["value"].split(" = ")[1].split()[0].replace(",", ""))
            for r in rows
            if " = " in r["value"] and r["step"]
        ]
        told = {r["what"]: r["value"] for r in rows if not r["step"]}
        assert float(told["models per run"].split()[0]) == pytest.approx(sum(costs), rel=0.03)
        exact = machine(run, demo, "--runs", "0", "--flow", name)["flows"][0]
        bill = float(exact["cost_month"]["amount"]) + float(exact["meters_month"]["amount"])
        assert float(told["bill of the month"].split()[0]) == pytest.approx(bill, rel=0.01)
        assert any(what.startswith("meter ") for what in told)


def test_rows_flows_and_notes_can_be_narrowed(demo: Path, run: Any) -> None:
    code, out, _ = run("estimate", "--top", "3", cwd=demo)
    assert (
        code == 0 and "14 more of 17 rows are not shown" in out and "17 flows" in out and "Weather warnings" not in out
    )
    rows = run("estimate", "--by", "model", "--top", "2", "-f", "csv", cwd=demo)[1].splitlines()
    assert len([row for row in rows if row and not row.startswith("#")]) == 3
    assert rows[0].endswith(",currency") and rows[1].endswith(",EUR")
    some = machine(run, demo, "--flow", "C*", "--flow", "fault-logger")["flows"]
    assert sorted(f["name"] for f in some) == ["Cabin damage claims", "Cargo papers screening", "Crew swap approvals", "Customer letters", "Fault logger"]  # fmt: skip
    code, _, err = run("estimate", "--flow", "X*", cwd=demo)
    assert code == 2 and "expected a pattern that fits the id or name of a flow, found 'X*'" in err
    native = "zeitbuch: 1\nflows:\n" + "".join(
        f"- id: f{place}\n  name: Flow {place}\n  triggers: [{{id: t, kind: manual}}]\n"
        f"  steps: [{{id: c, kind: subflow, name: c, calls: gone-{place}}}]\n  links: [{{source: t, target: c}}]\n"
        for place in range(40)
    )
    (demo / "many.yaml").write_text(native)
    code, out, _ = run("estimate", "many.yaml", "--no-cache", cwd=demo)
    assert code == 0 and "Flow 0 and 39 more: it calls 'gone-0'" in out and "gone-7" not in out


@pytest.mark.parametrize("chart", ["flows", "runs", "drivers", "months"])
def test_charts_are_drawn_the_same_twice(chart: str, demo: Path, run: Any) -> None:
    for form, head in (("svg", b"<?xml"), ("png", b"\x89PNG")):
        names = [f"one.{form}", f"two.{form}" if form == "svg" or chart == "flows" else f"one.{form}"]
        for name in dict.fromkeys(names):
            code, _, err = run("estimate", "--chart", chart, "-o", name, cwd=demo)
            assert code == 0, err
        first, second = ((demo / n).read_bytes() for n in names)
        assert first == second and first.startswith(head)


def test_months_as_a_table(demo: Path, run: Any) -> None:
    code, out, _ = run("estimate", "--chart", "months", cwd=demo)
    assert code == 0 and out.count("2027-") == 10 and "EUR/month" in out


def test_budgets_are_gates(demo: Path, run: Any) -> None:
    code, _, err = run("estimate", "--max-per-month", "100000", cwd=demo)
    assert code == 0, err
    code, out, err = run("estimate", "--max-per-month", "20", cwd=demo)
    assert code == 1 and "over budget: the estate: mean per month is" in err and "flow" in out
    code, _, err = run("estimate", "--max-per-run", "0.05", "--measure", "p99", cwd=demo)
    assert code == 1 and "'Safety handbook assistant': p99 per run" in err and "Crew swap" not in err
    code, _, err = run("estimate", "--flow", "Fault logger", "--max-per-month", "1", cwd=demo)
    assert code == 0, err
    card = (demo / "rates.toml").read_text().replace('name = "tern-embed-1"', 'name = "tern-other"')
    (demo / "rates.toml").write_text(card)
    code, _, err = run("estimate", "--max-per-month", "100000", cwd=demo)
    assert code == 1 and "unknown (no price is known for tern-embed-1)" in err


def test_budgets_of_the_workspace(demo: Path, run: Any) -> None:
    path = demo / "zeitbuch.toml"
    path.write_text(path.read_text() + '\n[[budget]]\nflow = "Cargo*"\nmax_per_month = 10\nmeasure = "p90"\n')
    code, _, err = run("estimate", cwd=demo)
    assert code == 1 and "'Cargo papers screening': p90 per month" in err
    path.write_text(path.read_text().replace("measure", "messure"))
    code, _, err = run("estimate", cwd=demo)
    assert code == 2 and "messure" in err and "Traceback" not in err


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (("--runs", "-1"), "argument --runs: expected a whole number from 0 to 1e+07, found '-1'"),
        (("--month", "2026-13"), "expected a month as YYYY-MM or a year as YYYY"),
        (("--why", "Nowhere"), "expected the id or name of a flow"),
        (("--why", "Customer letters", "-f", "png"), "found a picture"),
    ],
)
def test_wrong_use_is_said(words: tuple[str, ...], expected: str, demo: Path, run: Any) -> None:
    code, out, err = run("estimate", *words, cwd=demo)
    assert (code, out) == (2, "") and expected in err and "Traceback" not in err


WRONG = [
    ("[[assume]]\nstep='x'\nitems={ low=5, likely=2, high=9 }", 3, "low <= likely <= high"),
    ("[[assume]]\nstep='x'\nitems={ low=5, likely=2 }", 3, "expected low, likely and high, or mean"),
    ("[[assume]]\nstep='x'\nitems={ mean=5, mean_low=5, mean_high=9 }", 3, "mean_low < mean < mean_high for items"),
    ("[[assume]]\nstep='x'\nitems={ low=1, likely=2, high=3, mean_low=2.5, mean_high=2.7 }", 3, "found 2.5, 2, 2.7"),
    (
        "[[assume]]\ntrigger='x'\nruns={ low=1, likely=2, high=3, mean_low=1, mean_high=3 }",
        3,
        "the same for all runs of a month",
    ),
    ("[[season]]\nfactors=[1, 2]", 2, "expected 12 factors"),
    ("[[assume]]\nstep='x'\nfailure=-0.1", 3, "from 0 to 1, found -0.1"),
    ("[[assume]]\nstep='x'\nrounds=0", 3, "from 1 to 1e+09, found 0"),
]


@pytest.mark.parametrize(("text", "line", "expected"), WRONG, ids=[w[2] for w in WRONG])
def test_wrong_assumptions_are_said_with_their_line(text: str, line: int, expected: str, demo: Path, run: Any) -> None:
    (demo / "wrong.toml").write_text(text)
    code, out, err = run("estimate", "--assumptions", "wrong.toml", cwd=demo)
    assert (code, out) == (2, "") and f"wrong.toml:{line}" in err and expected in err and "Traceback" not in err


def test_large_estates_are_shared_out_and_give_the_same(tmp_path: Path, run: Any) -> None:
    from builders import ask, chain
    from zeitbuch.app.parallel_work import share_work
    from zeitbuch.core.assumptions.rules import Assumptions, Rule
    from zeitbuch.core.estimate.records import Sampling
    from zeitbuch.core.estimate.sampled_estate import estimate_flows

    flows = [chain(ask("a", f"Say {i}"), id=f"f{i}", name=f"Flow {i}") for i in range(450)]
    assumed = Assumptions(assume=(Rule(trigger="start", runs=3.0),))
    how = Sampling(200)
    assert estimate_flows(flows, None, assumed, "2026-01", how) == estimate_flows(
        flows, None, assumed, "2026-01", how, share=share_work
    )


def test_shares_over_one_are_said_where_one_case_is_taken(demo: Path, run: Any) -> None:
    two = "[[assume]]\nstep='By severity'\ncase='minor'\nshare=0.7\n[[assume]]\nflow='Berth*'\nstep='By severity'\ncase='cancelled'\nshare=0.5\n"
    (demo / "wrong.toml").write_text(two)
    for command in (("estimate",), ("compare", "--propose")):
        code, out, err = run(*command, "--assumptions", "wrong.toml", cwd=demo)
        assert (code, out) == (2, "") and "wrong.toml:9: error: expected shares of the cases of 'By severity'" in err
        assert "found 1.2" in err


def test_shares_of_a_decision_that_takes_several_cases_may_sum_to_more() -> None:
    from builders import flow, link, step
    from zeitbuch.core.assumptions.rules import Assumptions, Rule
    from zeitbuch.core.assumptions.shares import share_problems

    rules = Assumptions(assume=(Rule(step="d", case="*", share=0.8),))
    links = [link("start", "d"), link("d", "a", "case", "x"), link("d", "b", "case", "y")]
    several = flow([step("d", "decide", inclusive=True), step("a"), step("b")], links)
    one = flow([step("d", "decide"), step("a"), step("b")], links)
    assert share_problems([several], rules) == []
    assert [p.code for p in share_problems([one], rules)] == ["assume-shares"]


def test_numbers_beyond_all_measure_and_hostile_names_do_no_harm(tmp_path: Path, run: Any) -> None:
    from conftest import ESTATE

    loops = "".join(f"{{id: l{i}, kind: loop, name: L{i}{f', scope: l{i - 1}' if i else ''}}}, " for i in range(4))
    (tmp_path / "f.yaml").write_text(
        "zeitbuch: 1\nflows: [{id: f, name: \"=cmd|' /C calc'!A0 <script>x</script> $x^2$\", triggers: [{id: t, kind: event}], "
        f"steps: [{loops}{{id: d, kind: model, name: D, scope: l3, model: {{name: fulmar-mini-2, prompts: [{{text: hi}}]}}}}], "
        "links: [{source: t, target: l0}]}]\n"
    )
    for items, status in (("1e9", 0), ("1e10", 2)):
        (tmp_path / "a.toml").write_text(f"[[assume]]\nstep='*'\nitems={items}\n[[assume]]\ntrigger='t'\nevents=1e12\n")
        figures = ("--rates", str(ESTATE / "rates.toml"), "--assumptions", "a.toml")
        for words in (
            (),
            ("--per", "month"),
            ("--drivers",),
            ("--why", "f"),
            ("--chart", "runs", "-o", "x.svg"),
            ("-f", "csv"),
        ):
            code, out, err = run("estimate", "f.yaml", *figures, *words, cwd=tmp_path)
            assert code == status and "Traceback" not in err, err
            assert status == 0 or "a.toml:3" in err
            if "csv" in words and not status:
                assert "'=cmd" in out, "no formula in a spreadsheet"


def test_wrong_rates_are_all_told_and_nothing_is_said_to_be_done(demo: Path, run: Any) -> None:
    path = demo / "rates.toml"
    path.write_text(path.read_text().replace("input = 0", "input = -0"))
    code, out, err = run("estimate", cwd=demo)
    assert code == 2 and not out and err.count("[rate-negative]") > 1
    assert "errors; nothing was done" in err and "the rest was processed" not in err
    (demo / "empty").mkdir()
    code, out, err = run("record", "empty", "--book", "new.sqlite", cwd=demo)
    assert code == 2 and not out and err.count("[source-empty]") == 1 and "the rest was processed" not in err
    assert not (demo / "new.sqlite").exists()

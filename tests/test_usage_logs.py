"""Usage logs: how their values are read, what is told of those that cannot be, and the commands on real files."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import ask, chain
from conftest import Run
from zeitbuch.core.actuals.matching import Names
from zeitbuch.core.actuals.usage_mapping import ColumnRule, PassedOver, UsageMapping, mapping_faults
from zeitbuch.core.model.records import Estate
from zeitbuch.readers.usage.usage_log import UsageSums, log_files, read_usage

COLUMNS: dict[str, str | ColumnRule] = {"time": "at", "flow": "flow", "tokens_in": "in", "cost": "cost"}


def log_of(folder: Path, text: str, columns: dict[str, str | ColumnRule] | None = None, **more: Any) -> UsageSums:
    path = folder / "log.csv"
    path.write_bytes(text.encode(more.get("encoding", "utf-8")))
    settings = {"zone": "UTC", "currency": "EUR"} | more
    return read_usage([str(path)], UsageMapping(column=columns or COLUMNS, **settings))


def told(found: UsageSums) -> list[str]:
    return [str(problem).splitlines()[0].rpartition("/")[2] for problem in found.problems]


def total(found: UsageSums, name: str = "cost") -> Any:
    values = [value for one in found.sums if (value := getattr(one, name)) is not None]
    return sum(values) if values else None


def test_what_cannot_be_used_is_told_with_its_line(tmp_path: Path) -> None:
    text = 'at,flow,in,cost\n2026-11-01 08:00:00,A,12,0.5\n2026-11-01 09:00:00,A,-3,0.5\nnever,A,7,x\nshort\n"2026-11-02 10:00:00",A,8,"1,5"\n'
    found = log_of(tmp_path, text)
    assert total(found) == 1 and total(found, "tokens_in") == 27
    assert found.rejected == 1 and found.refused == {"time": 1, "tokens_in": 1, "cost": 2}
    assert sorted(told(found)) == [
        "log.csv:3: error: expected a number of 0 or more for tokens_in, found '-3' in the column 'in' [usage-value]",
        "log.csv:4: error: expected a clock time for time, found 'never' in the column 'at' [usage-value]",
        "log.csv:4: error: expected an amount for cost, found 'x' in the column 'cost' [usage-value]",
        "log.csv:5: error: expected a line with all columns, found: Expected Number of Columns: 4 Found: 1 [usage-line]",
        "log.csv:6: error: expected an amount for cost, found '1,5' in the column 'cost' [usage-value]",
    ]


def test_a_clock_time_without_a_zone_is_never_guessed(tmp_path: Path) -> None:
    found = log_of(tmp_path, "at,flow,in,cost\n2026-11-01 08:00:00,A,1,1\n", zone="")
    assert found.refused == {"time": 1} and found.problems[0].hint.startswith("set zone")
    with_offset = log_of(tmp_path, "at,flow,in,cost\n2026-11-01T08:00:00+02:00,A,1,1\n", zone="")
    assert not with_offset.problems and with_offset.sums[0].day == "2026-11-01"


@pytest.mark.parametrize(
    ("written", "form", "zone", "days_in", "day"),
    [
        ("2026-11-01T23:30:00Z", "iso", "", "Europe/Oslo", "2026-11-02"),
        ("2026-11-01T23:30:00Z", "iso", "", "", "2026-11-01"),
        ("2026-11-01 23:30", "iso", "UTC", "Europe/Oslo", "2026-11-02"),
        ("2026-11-01 00:30", "iso", "Europe/Oslo", "UTC", "2026-10-31"),
        ("01.11.2026 23:30", "%d.%m.%Y %H:%M", "America/New_York", "UTC", "2026-11-02"),
        ("01/11/26 23:30 +0500", "%d/%m/%y %H:%M %z", "", "UTC", "2026-11-01"),
        (str(int(datetime(2026, 11, 1, 23, 30, tzinfo=UTC).timestamp())), "seconds", "", "Europe/Oslo", "2026-11-02"),
        (
            str(int(datetime(2026, 11, 1, 23, 30, tzinfo=UTC).timestamp() * 1000)),
            "milliseconds",
            "",
            "UTC",
            "2026-11-01",
        ),
    ],
)
def test_days_are_those_of_the_zone_that_counts(
    written: str, form: str, zone: str, days_in: str, day: str, tmp_path: Path
) -> None:
    columns = COLUMNS | {"time": ColumnRule(column="at", format=form)}
    found = log_of(tmp_path, f"at,flow,in,cost\n{written},A,1,1\n", columns, zone=zone, days_in=days_in)
    assert not found.problems and found.sums[0].day == day


@pytest.mark.parametrize(
    ("decimal", "thousands", "good", "bad"),
    [
        (".", "", {"1234.5": "1234.5", "1e-3": "0.001", "-2": "-2", " 7 ": "7"}, ["1,234.5", "1.2.3", "€5", "12 %"]),
        (",", "", {"1234,5": "1234.5", "-0,25": "-0.25"}, ["1.234", "1.234,5", "1,2,3"]),
        (
            ",",
            ".",
            {"1.234,5": "1234.5", "1.234.567": "1234567", "12,5": "12.5", "1234,5": "1234.5"},
            ["12.5", "1.23,4", "1,234.5", "1.2345"],
        ),
        (".", ",", {"1,234.5": "1234.5", "12.5": "12.5"}, ["12,5", "1.234,5", "1,23"]),
        (".", "'", {"1'234.5": "1234.5"}, ["1,234.5", "1'23"]),
    ],
)
def test_numbers_are_read_as_the_mapping_says_or_refused(
    decimal: Any, thousands: str, good: dict[str, str], bad: list[str], tmp_path: Path
) -> None:
    for written, value in good.items():
        found = log_of(
            tmp_path,
            f'at;flow;in;cost\n2026-11-01 08:00;A;1;"{written}"\n',
            separator=";",
            decimal=decimal,
            thousands=thousands,
        )
        assert not found.problems and total(found) == Decimal(value), written
    for written in bad:
        found = log_of(
            tmp_path,
            f'at;flow;in;cost\n2026-11-01 08:00;A;1;"{written}"\n',
            separator=";",
            decimal=decimal,
            thousands=thousands,
        )
        assert found.refused == {"cost": 1} and total(found) is None, written


@settings(max_examples=20)
@given(st.lists(st.decimals(min_value=-(10**9), max_value=10**9, places=6), min_size=1, max_size=40))
def test_costs_add_up_to_the_last_place(amounts: list[Decimal]) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        lines = "".join(
            f"2026-11-{place % 28 + 1:02d} 08:00:{place:02d};A;1;{amount:f}\n" for place, amount in enumerate(amounts)
        )
        found = log_of(Path(name), f"at;flow;in;cost\n{lines}", separator=";")
    assert not found.problems and total(found) == sum(amounts)


def test_lines_passed_over_are_counted_apart_and_doubled_ones_marked(tmp_path: Path) -> None:
    text = (
        "at,flow,in,cost\n"
        + "2026-11-01 08:00:00,A,1,2\n" * 3
        + "2026-11-01 08:00:01,A,1,2\n2026-11-30 00:00:00,TOTAL,,8\n"
    )
    found = log_of(tmp_path, text, without=[PassedOver("flow", equals=["Total"])])
    by = {(one.passed, one.doubled): (one.lines, one.cost) for one in found.sums}
    assert by == {(False, False): (2, 4), (False, True): (2, 4), (True, False): (1, 8)} and found.lines == 5


def test_the_same_lines_in_two_files_are_counted_once(tmp_path: Path) -> None:
    for name in ("a.csv", "b.csv"):
        (tmp_path / name).write_text(
            f"at,flow,in,cost\n2026-11-01 08:00:00,A,1,2\n2026-11-02 08:00:0{len(name)},{name},1,1\n"
        )
    found = read_usage(
        [str(tmp_path / "a.csv"), str(tmp_path / "b.csv")], UsageMapping(column=COLUMNS, zone="UTC", currency="EUR")
    )
    assert sum(one.cost for one in found.sums if not one.doubled and one.cost is not None) == 4 and total(found) == 6


def test_lines_that_end_in_two_ways_and_other_encodings(tmp_path: Path) -> None:
    mixed = log_of(tmp_path, "Report\nat,flow,in,cost\r\n2026-11-01 08:00,A,1,2\r\n2026-11-01 09:00,B,x,3\r\n", skip=1)
    assert total(mixed) == 5 and told(mixed)[0].startswith("log.csv:4: error: expected a number")
    latin = log_of(tmp_path, "at,flow,in,cost\n2026-11-01 08:00,Käufe,1,2\n", encoding="latin-1")
    assert latin.sums[0].flow == "Käufe" and not latin.problems


def test_faults_of_a_mapping() -> None:
    wrong = UsageMapping(
        column={"flow": "a", "wage": "b", "cost": ColumnRule(), "calls": ColumnRule(column="c", times=-1)}, line="sum", thousands=".",
        zone="Oslo",
    )  # fmt: skip
    assert [problem.message for problem in mapping_faults(wrong)] == [
        "expected a column of usage records, found 'wage'",
        "expected either column or fixed for cost",
        "expected times to be over 0 and finite, found -1",
        "expected a column for time or for day, found neither",
        "expected the currency of the cost, found none",
        "expected another sign than the decimal one, found '.'",
        "expected a time zone, found 'Oslo'",
    ]


def test_names_of_the_log_in_the_estate() -> None:
    estate = Estate(
        flows=(
            chain(ask("a"), id="f1", name="Berth notices"),
            chain(ask("a"), id="f2", name="Fares"),
            chain(ask("a"), id="f3", name="fares"),
        )
    )
    names = Names({flow.id: (flow.name,) for flow in estate.flows}, {"Kai": "Berth notices", "Old": "Gone"})
    kinds = {name: (match.kind, match.id, match.near) for name in ("f1", "berth_NOTICES", "Fares", "FARES", "Berth notice", "Kai", "Old", "Whales", "")
             if (match := names.match(name))}  # fmt: skip
    assert kinds == {
        "f1": ("exact", "f1", ()), "berth_NOTICES": ("exact", "f1", ()), "Fares": ("exact", "f2", ()), "FARES": ("ambiguous", "", ("f2", "f3")),
        "Berth notice": ("near", "", ("f1",)), "Kai": ("mapped", "f1", ()), "Old": ("none", "", ("Gone",)), "Whales": ("none", "", ()),
        "": ("none", "", ()),
    }  # fmt: skip


# -- the commands ----------------------------------------------------------------------------------------------------------------


def test_the_story_of_the_demo(demo: Path, run: Run) -> None:
    ran = run("reconcile", "--format", "json", cwd=demo)
    result = json.loads(ran.out)
    assert ran.code == 0 and Decimal(result["unexplained"]) == 0
    found = {
        (one["explanation"] if "explanation" in one else one["code"], one["subject"]): one
        for one in result["explanations"]
    }
    assert found[("days-missing", "all flows")]["first_day"] == "2026-10-12"
    assert found[("model-other", "Safety handbook assistant")]["first_day"] == "2026-11-17"
    assert "1.12 times" in found[("price", "fulmar-large-2 at Boathouse")]["words"]
    assert found[("host-switched", "2 flows")]["first_day"] == "2026-11-10"
    assert found[("renamed", "Lost and found")]["certain"] is False and ("test-environment", "Probe") in found
    rows = sum(Decimal(row["cost"]) for row in result["rows"] if row["aside"] != "passed")
    assert rows == Decimal(result["logged"])
    named = demo / "usage/breakwater.toml"
    named.write_text(named.read_text() + '\n[flows]\n"Lost and found" = "Lost property matching"\n')
    again = json.loads(run("reconcile", "--format", "json", cwd=demo).out)
    assert not [one for one in again["explanations"] if one["code"] in ("renamed", "flow-stopped")]


def test_gates_days_and_sides(demo: Path, run: Run) -> None:
    assert run("reconcile", "--max-gap", "5%", cwd=demo).code == 1
    assert run("reconcile", "--max-gap", "25%", cwd=demo).code == 0
    by_day = json.loads(
        run("reconcile", "--by", "day", "--from", "2026-11-01", "--to", "2026-11-07", "--format", "json", cwd=demo).out
    )
    assert by_day["days"] == 7 and len(by_day["groups"]) == 7
    assert run("reconcile", "--from", "yesterday", cwd=demo).code == 2
    assert "expected lines of usage" in run("reconcile", "--from", "2025-01-01", "--to", "2025-01-02", cwd=demo).err


@pytest.mark.parametrize(
    ("log", "mapping", "words"),
    [
        ("", None, "found an empty file"),
        ("at,flow\n", None, "expected lines below the head"),
        ("when,flow\n1,2\n", None, "expected the column 'at' for time, found when, flow"),
        (None, None, "found no such file"),
        (
            "at,flow\n2026-11-01T08:00:00Z,A\n",
            "usage = 1\n[column]\ntime = 'at'\nflaw = 'flow'\n",
            "expected a column of usage records, found 'flaw'",
        ),
        ("at,flow\n2026-11-01T08:00:00Z,A\n", "usage = 1\ndecimals = ','\n", "decimals"),
        ("at,flow\n2026-11-01T08:00:00Z,A\n", "usage = [\n", "usage.toml:"),
        ("\x00\x01\x02", None, "expected"),
    ],
)
def test_bad_input_is_told_and_never_a_traceback(
    log: str | None, mapping: str | None, words: str, tmp_path: Path, run: Run
) -> None:
    (tmp_path / "usage.toml").write_text(mapping or 'usage = 1\n[column]\ntime = "at"\nflow = "flow"\n')
    if log is not None:
        (tmp_path / "log.csv").write_text(log)
    (tmp_path / "flow.yaml").write_text("zeitbuch: 1\nflows: []\n")
    for command in (("usage", "test"), ("reconcile",)):
        ran = run(*command, "log.csv", "--mapping", "usage.toml", "--source", "flow.yaml", cwd=tmp_path)
        assert ran.code == 2 and words in ran.err and "Traceback" not in ran.err, ran.err


def test_foreign_currencies_need_a_rate(tmp_path: Path, run: Run, demo: Path) -> None:
    (tmp_path / "log.csv").write_text(
        "at,flow,cost,cur\n2026-11-01T08:00:00Z,Fault logger,5,EUR\n2026-11-01T09:00:00Z,Fault logger,7,SEK\n"
    )
    (tmp_path / "usage.toml").write_text(
        'usage = 1\n[column]\ntime = "at"\nflow = "flow"\ncost = "cost"\ncurrency = "cur"\n'
    )
    ran = run("reconcile", str(tmp_path / "log.csv"), "--mapping", str(tmp_path / "usage.toml"), cwd=demo)
    assert "no rate of exchange for SEK: these costs are left out" in ran.out


def _usage_lines(make: Callable[[int], str], count: int) -> str:
    return "".join(make(place) for place in range(count))


def test_a_log_packed_and_one_with_a_mark_of_its_encoding(tmp_path: Path) -> None:
    import gzip

    text = "\ufeffat,flow,in,cost\n" + _usage_lines(
        lambda n: f"{datetime(2026, 11, 1) + timedelta(minutes=n)},A,{n},1\n", 50
    )
    path = tmp_path / "log.csv.gz"
    path.write_bytes(gzip.compress(text.encode()))
    found = read_usage([str(path)], UsageMapping(column=COLUMNS, zone="UTC", currency="EUR"))
    assert not found.problems and total(found) == 50 and total(found, "tokens_in") == 1225


# -- found by reading the change once more: each of these was told wrongly in silence ----------------------------------------------


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("log.jsonl", json.dumps({"at": "2026-11-01T23:30:00Z", "flow": "A", "in": 1, "cost": 1}) + "\n"),
        ("log.csv", "at,flow,in,cost\n2026-11-01 23:30:00 UTC,A,1,1\n"),
        ("log.csv", "at,flow,in,cost\n2026-11-01 17:30:00 America/Chicago,A,1,1\n"),
    ],
)
def test_a_zone_that_a_time_names_counts_in_every_form(name: str, text: str, tmp_path: Path) -> None:
    path = tmp_path / name
    path.write_text(text)
    found = read_usage([str(path)], UsageMapping(column=COLUMNS, zone="Europe/Oslo", currency="EUR"))
    assert not found.problems and found.sums[0].day == "2026-11-02"


def test_blank_cells_of_a_workbook_are_neither_models_nor_runs(tmp_path: Path) -> None:
    import xlsxwriter

    book = xlsxwriter.Workbook(str(tmp_path / "log.xlsx"))
    sheet = book.add_worksheet()
    rows = (["at", "flow", "run", "model"], ["2026-11-01 08:00", "A", "", ""], ["2026-11-01 09:00", "A", "r", "m"])
    for place, row in enumerate(rows):
        sheet.write_row(place, 0, row)
    book.close()
    mapping = UsageMapping(
        column={"time": "at", "flow": "flow", "run": "run", "model": "model"}, zone="UTC", line="step"
    )
    found = read_usage([str(tmp_path / "log.xlsx")], mapping)
    assert total(found, "calls") == 1 and sum(found.runs.values()) == 1


def test_lines_that_differ_in_a_column_nobody_mapped_are_two(tmp_path: Path) -> None:
    found = log_of(tmp_path, "at,flow,in,cost,id\n2026-11-01 08:00,A,1,1,7\n2026-11-01 08:00,A,1,1,8\n")
    assert total(found) == 2 and not any(one.doubled for one in found.sums)


def test_all_broken_lines_are_counted(tmp_path: Path) -> None:
    found = log_of(tmp_path, "at,flow,in,cost\n2026-11-01 08:00,A,1,1\n" + "broken\n" * 1500)
    assert found.rejected == 1500 and "found 1,500 that have not" in found.problems[-1].message


def test_a_fixed_value_that_is_no_number_is_refused() -> None:
    columns = COLUMNS | {
        "calls": ColumnRule(fixed="many"),
        "duration": ColumnRule(fixed="1.5"),
        "day": ColumnRule(fixed="2026-11-01"),
    }
    assert [problem.message for problem in mapping_faults(UsageMapping(column=columns, currency="EUR"))] == [
        "expected a number such as 1.5 for calls, found 'many'",
        "expected a column of the log for day, found '2026-11-01'",
    ]


def test_without_a_rate_card_nothing_is_estimated_and_currencies_stay_apart(tmp_path: Path, run: Run) -> None:
    (tmp_path / "flow.yaml").write_text(
        "zeitbuch: 1\nflows:\n- id: a\n  name: A\n  triggers: [{id: t, kind: event}]\n"
        "  steps: [{id: s, kind: model, model: {name: m}}]\n  links: [{source: t, target: s}]\n"
    )
    (tmp_path / "log.csv").write_text("at,flow,cost,cur\n2026-11-01T08:00:00Z,A,5,EUR\n2026-11-01T09:00:00Z,A,7,SEK\n")
    (tmp_path / "usage.toml").write_text(
        'usage = 1\n[column]\ntime = "at"\nflow = "flow"\ncost = "cost"\ncurrency = "cur"\n'
    )
    ran = run("reconcile", "log.csv", "--mapping", "usage.toml", "--source", "flow.yaml", "-f", "json", cwd=tmp_path)
    result = json.loads(ran.out)
    assert (result["estimated"], result["difference"], result["unexplained"]) == (None, None, None)
    assert Decimal(result["logged"]) == 5 and "no rate of exchange for SEK" in " ".join(result["notes"])


@pytest.mark.parametrize("text", ["nan", "inf", "-1", "1e400", "0x10"])
def test_what_only_looks_like_a_number_is_refused(text: str, tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text(f"day,flow,n,c\n2026-10-01,a,{text},1\n2026-10-01,a,5,1\n")
    columns: dict[str, str | ColumnRule] = {"day": "day", "flow": "flow", "calls": "n", "cost": "c"}
    found = read_usage([str(path)], UsageMapping(line="sum", currency="EUR", column=columns))
    assert [(one.calls, one.cost) for one in found.sums] == [(5.0, 2)] and found.refused == {"calls": 1}


def test_files_of_a_mapping_may_begin_at_the_root(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("x")
    assert log_files([], UsageMapping(files=[str(tmp_path / "*.csv")]), "elsewhere") == [str(tmp_path / "a.csv")]


def test_a_flow_is_known_by_the_names_it_once_had() -> None:
    names = Names({"a": ("Now",), "b": ("Other",)}, {}, {"a": ("Once", "other"), "b": ("Twice",), "c": ("Twice",)})
    assert (names.match("once").kind, names.match("once").id) == ("renamed", "a")
    assert (names.match("Other").kind, names.match("Other").id) == ("exact", "b")  # what has the name now has it
    assert names.match("Twice").kind == "ambiguous" and names.match("Twice").id == ""


def test_the_book_knows_former_names(run: Run, demo: Path) -> None:
    words = ("usage", "test", "--names", "--mapping", "usage/breakwater.toml", "--format", "csv")
    assert "the same name" in next(
        one for one in run(*words, cwd=demo).out.splitlines() if "Lost property matching," in one
    )
    assert run("record", "--by", "Maren Dahl", "--at", "2026-11-01", cwd=demo).code == 0
    for path in (demo / "november").rglob("*"):
        if path.is_file() and b"Lost property matching" in path.read_bytes():
            path.write_bytes(path.read_bytes().replace(b"Lost property matching", b"Found things"))
    unknown = run(*words, "--book", "nowhere.sqlite", cwd=demo)
    assert "a former name" not in unknown.out
    assert run("record", "--by", "Maren Dahl", "--at", "2026-11-20", cwd=demo).code == 0
    told = next(one for one in run(*words, cwd=demo).out.splitlines() if "Lost property matching," in one)
    assert "a former name, by the book" in told and "Found things" in told
    held = run("reconcile", "--mapping", "usage/breakwater.toml", cwd=demo)
    assert "former names, as the book has them: ‘Lost property matching’ is ‘Found things’" in held.out

"""An option that would be ignored is refused: who gives a gate or a filter believes that it holds."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Run

REFUSED = {
    # a gate that is silently off passes whatever a month costs, whatever is found
    "estimate --drivers --max-per-month 0.01": "expected no --max-per-month beside --drivers, found both",
    "estimate --chart drivers --max-per-month 1": "expected no --max-per-month beside --chart drivers",
    "estimate --chart months -f csv --max-per-run 0": "expected no --max-per-run beside --chart months",
    "estimate --why letters --max-per-month 0.01": "expected no --max-per-month beside --why",
    "estimate --assume x.toml --max-per-month 0.01": "expected no --max-per-month beside --assume",
    "check --codes --fail-on high": "expected no --fail-on beside --codes",
    "check --explain model-retired --fail-on high": "expected no --fail-on beside --explain",
    "diff october november --undo letters/1 --fail-on risk": "expected no --fail-on beside --undo",
    "diff october november --undo letters/1 --max-increase 1": "expected no --max-increase beside --undo",
    "diff october november --base october --fail-on any": "expected no --fail-on beside --base",
    "diff --clones november --fail-on risk": "expected no --fail-on beside --clones",
    "estimate --measure p90": "expected a limit beside --measure, found none",
    # what was asked for is not what is shown
    "estimate --assume x.toml -o y.csv": "expected no --output beside --assume",
    "estimate --drivers --why letters": "expected no --drivers beside --why",
    "estimate --drivers --chart months": "expected no --drivers beside --chart months",
    "estimate --drivers --chart runs": "expected --chart drivers beside --drivers, found --chart runs",
    "estimate --why letters --flow letters": "expected no --flow beside --why",
    "estimate --drivers --by model": "expected no --by beside --drivers",
    "estimate --drivers --per year": "expected --per run or month beside --drivers, found year",
    "estimate --steps --by model": "expected no --by beside --steps",
    "estimate --steps --per month": "expected no --per beside --steps",
    "estimate --by model -o x.png": "expected no --by beside a picture",
    "estimate --top 3 -o x.svg": "expected no --top beside a picture",
    "estimate --drivers --top 3 -o x.svg": "expected no --top beside a picture",
    "estimate --chart runs -f csv": "expected a picture beside --chart runs, found a csv",
    "check --explain model-retired --codes": "expected no --codes beside --explain",
    "check --accept-all --top 1": "expected no --top beside --accept-all",
    "diff --clones november --base october": "expected no --base beside --clones",
    "diff --clones november --month 2026-03": "expected no --month beside --clones",
    "diff october november --clones": "expected one source beside --clones, found october and november",
    "diff october november --base october --no-checks": "expected no --no-checks beside --base",
    "map --flow letters --by connection -o x.svg": "expected --estate beside --by, found none",
    "map --flow letters --before 1 -o x.svg": "expected --around beside --before, found none",
    "map --flow letters --month 2026-03 -o x.svg": "expected a map with figures beside --month, found none",
    "map --flow letters --scale 3 -o x.svg": "expected no --scale beside svg",
    "map --estate --from 2026-11-01 -o x.svg": "expected no --from beside --estate",
    "explain letters --case refund --from 2026-11-01": "expected no --from beside --case",
    "explain letters Desk --case refund": "expected FLOW alone beside --case, found STEP 'Desk' too",
    "explain letters Desk --upstream --case refund": "expected no --case beside --upstream",
    "explain letters --upstream": "expected FLOW and STEP beside --upstream, found no STEP",
    "explain --message model-retired letters": "expected --message CODE alone, found FLOW 'letters' beside it",
    "explain --message model-retired --case x": "expected no --case beside --message",
    "compare --propose --scenario scenarios/small-model.toml": "expected no --scenario beside --propose",
    "compare --propose --no-break-even": "expected no --no-break-even beside --propose",
    "compare --scenario scenarios/small-model.toml --write x.toml": "expected --propose beside --write, found none",
    "reconcile --explanations --by day": "expected no --by beside --explanations",
    "reconcile -o x.png --by day": "expected no --by beside a picture",
    "history --keep-days 3": "expected no --keep-days beside a list of versions",
    "history --by me": "expected no --by beside a list of versions",
    "history --verify --then day": "expected no --then beside --verify",
    "history --export x.toml -f csv": "expected no --format beside --export",
    "document -o documents --verify --month 2026-03": "expected no --month beside --verify",
    "review status letters": "expected no FLOW beside status, found 'letters'",
    "review packet letters -o x.zip": "expected no FLOW beside packet, found 'letters'",
    "review status --role owner": "expected no --role beside status",
    "review request letters --role owner --until 2027-01-01": "expected no --until beside request",
    "review withdraw letters --role owner --key x.pem": "expected no --key beside withdraw",
    "brief letters --by me": "expected no --by beside a brief",
    "brief letters --back x.md": "expected --back FILE without FLOW, found 'letters'",
    "brief --back x.md --prompts": "expected no --prompts beside --back",
    "brief letters --drop --key x.pem": "expected no --key beside --drop",
}
TAKEN = (
    "estimate --drivers --chart drivers --per run -o x.png", "estimate --steps --top 3 --max-per-run 9",
    "estimate --by model --per year --max-per-month 9999", "check --codes -f csv", "diff --clones november --flow letters --evidence",
    "map --flow letters --month 2026-03 -o x.html", "map --flow letters --scale 3 -o x.png",
    "map --flow letters --show findings --month 2026-03 -o x.svg", "map --estate --by connection -o x.svg",
    "explain letters --case refund --fails Desk", "compare --propose --write fold", "reconcile -o x.png --from 2026-11-02",
)  # fmt: skip


@pytest.mark.parametrize("line", REFUSED)
def test_an_option_that_would_be_ignored_is_refused(line: str, demo: Path, run: Run) -> None:
    ran = run(*line.split(), cwd=demo)
    assert ran.code == 2 and REFUSED[line] in ran.err and ran.out == "", ran.err
    assert not [*demo.glob("x.*")]


@pytest.mark.parametrize("line", TAKEN)
def test_options_that_go_together_are_taken(line: str, demo: Path, run: Run) -> None:
    ran = run(*line.split(), cwd=demo)
    assert ran.code in (0, 1) and " error: " not in ran.err, ran.err

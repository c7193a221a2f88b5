# Lines that belong to no flow of the estate, or to no production: each kind with its money, so that nothing vanishes.
"""Lines that are held against no estimate."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from datetime import date
from decimal import Decimal

from zeitbuch.core.model.words import count_words

from .columns import TOTAL_WORDS
from .flow_cases import ZERO, FlowCase
from .matching import NameMatch
from .placing import Placed, Placing
from .reasons import ReasonCode
from .records import Aside, Explanation

_WORDS: dict[Aside, tuple[ReasonCode, str]] = {
    "doubled": ("lines-doubled", "lines that stand there twice, in every column the same"),
    "no-day": ("lines-without-day", "lines whose day could not be read"),
    "not-production": ("test-environment", "lines of environments that are not production"),
    "no-flow": ("outside-any-flow", "calls outside any flow"),
}
RENAME_GAP = 4  # days that may lie between the last line of a flow and the first under its new name


def explain_asides(placed: Sequence[Placed]) -> Iterator[Explanation]:
    """One explanation for each kind of lines without a flow."""
    for aside, (code, words) in _WORDS.items():
        for environment, lines in _by_environment([one for one in placed if one.aside == aside], aside).items():
            yield _of_lines(
                code, environment, f"{words}: {count_words(sum(one.sum.lines for one in lines), 'line')}", lines
            )


def _by_environment(lines: Sequence[Placed], aside: Aside) -> dict[str, list[Placed]]:
    found: dict[str, list[Placed]] = defaultdict(list)
    for one in lines:
        found[one.sum.environment if aside == "not-production" else "the log"].append(one)
    return found


def _of_lines(code: ReasonCode, subject: str, words: str, lines: Sequence[Placed], certain: bool = True) -> Explanation:
    days = sorted({one.day for one in lines if one.day is not None})
    money = sum((one.cost for one in lines if one.cost is not None), ZERO)
    return Explanation(
        code, subject, words, str(days[0]) if days else "", str(days[-1]) if days else "", len(days), money, certain
    )


def explain_unknown_flows(
    placed: Sequence[Placed], cases: Sequence[FlowCase], placing: Placing
) -> Iterator[Explanation]:
    """Flows of the log that the estate does not know: what each may be."""
    groups: dict[str, list[Placed]] = defaultdict(list)
    for one in placed:
        if one.aside == "unknown-flow":
            groups[one.sum.flow].append(one)
    rest = sum((one.cost for one in placed if one.cost is not None and one.aside in ("", "no-flow")), ZERO)
    for name, lines in groups.items():
        match = placing.flows.match(name)
        renamed = _renamed(lines, cases)
        if name.strip().casefold().rstrip(":") in TOTAL_WORDS:
            words = "lines that look like totals are counted as usage: pass them over in the mapping ([[without]])"
            yield _of_lines("totals-counted", name, words, lines, _is_total(lines, rest))
        elif renamed is not None:
            words = f"it begins when ‘{renamed.name}’ ends, and does as much: renamed? Say so in the mapping ([flows])"
            yield _of_lines("renamed", name, words, lines, False)
        else:
            yield _of_lines("flow-unknown", name, _unknown_words(match, placing), lines)


def _unknown_words(match: NameMatch, placing: Placing) -> str:
    titles = [f"‘{placing.by_id[key].title}’" if key in placing.by_id else f"‘{key}’" for key in match.near]
    if match.kind == "near":
        return f"no flow of the estate has this name; near it is {' or '.join(titles)}: say so in the mapping ([flows]) if it is that"
    if match.kind == "ambiguous":
        return f"several flows have this name: {', '.join(titles)}; say which in the mapping ([flows])"
    if match.near:
        return f"the mapping says it is {titles[0]}, and no flow has that name"
    return "the estate has no such flow"


def _is_total(lines: Sequence[Placed], rest: Decimal) -> bool:
    money = sum((one.cost for one in lines if one.cost is not None), ZERO)
    return bool(rest) and abs(money - rest) <= rest / 50


def _renamed(lines: Sequence[Placed], cases: Sequence[FlowCase]) -> FlowCase | None:
    """The one flow that ends as these lines begin, with as many calls a day and the same models."""
    begun = min((one.day for one in lines if one.day is not None), default=None)
    if begun is None:
        return None
    fitting = [case for case in cases if _ends_before(case, begun) and _does_the_same(case, lines)]
    return fitting[0] if len(fitting) == 1 else None


def _ends_before(case: FlowCase, begun: date) -> bool:
    days = [day for day, lines in case.lines.items() if lines]
    return bool(days) and max(days) <= begun and (begun - max(days)).days <= RENAME_GAP


def _does_the_same(case: FlowCase, lines: Sequence[Placed]) -> bool:
    own = [one for rows in case.lines.values() for one in rows]
    models = {one.model for one in own}
    if models.isdisjoint(one.model for one in lines):
        return False
    before, after = _calls_a_day(own), _calls_a_day(lines)
    return before > 0 and after > 0 and 0.5 <= after / before <= 2


def _calls_a_day(lines: Sequence[Placed]) -> float:
    days = {one.day for one in lines}
    return sum(one.sum.calls or one.sum.lines for one in lines) / max(1, len(days))

# The one table of reasons: what can explain that a log differs from the estimate, and what to do about it. docs/usage.md lists them.
"""Why log and estimate differ."""

from __future__ import annotations

from typing import Literal, NamedTuple

ReasonCode = Literal[
    "days-missing", "lines-doubled", "lines-without-day", "test-environment", "outside-any-flow", "flow-unknown", "renamed", "totals-counted",
    "flow-silent", "flow-stopped", "flow-began", "flow-paused", "weekdays-quiet", "volume-unknown", "price-unknown", "runs-more", "runs-fewer", "calls-more",
    "calls-fewer", "calls-per-run-more", "calls-per-run-fewer", "step-unknown", "cost-differs", "sizes-more", "sizes-less", "unit-not-counted",
    "size-or-price", "model-other", "price", "not-billed", "rounding", "host-switched", "clock-off", "lines-late", "day-cut",
]  # fmt: skip


class Reason(NamedTuple):
    """One reason: what it means, and what to do."""

    code: ReasonCode
    about: str
    remedy: str


REASONS: tuple[Reason, ...] = (
    Reason("days-missing", "Days on which the log has no line at all.", "Export them."),
    Reason("lines-late", "Lines of the last days that had not arrived yet, as late as the others came.", "Export these days again."),
    Reason("day-cut", "A day within which the log begins or ends.", "Export it again, or ask for whole days (`--from`, `--to`)."),
    Reason("lines-doubled", "Lines that stand there twice, equal in every column of the log.", "Nothing: they are counted once."),
    Reason("lines-without-day", "Lines whose day could not be read.", "Correct `format` or `zone` in the mapping."),
    Reason("test-environment", "Lines of environments that are not production.", "Nothing, or bill them to whom they belong."),
    Reason("outside-any-flow", "Calls that name no flow.", "Ask who makes them."),
    Reason("flow-unknown", "A flow of the log that the estate does not have.", "Read its export too, or name it in `[flows]`."),
    Reason("renamed", "A flow of the log that begins when another ends and does as much.", "Say so in `[flows]`."),
    Reason("totals-counted", "Lines that look like totals.", "Pass them over with `[[without]]`."),
    Reason("flow-silent", "A flow of the estate without any line.", "Ask whether it is on, and whether its calls are logged."),
    Reason("flow-stopped", "A flow without a line from a day on.", "Ask whether it was switched off, renamed, or is no longer exported."),
    Reason("flow-began", "A flow without a line until a day.", "Ask whether it began later, or had another name."),
    Reason("flow-paused", "A flow without a line for a while.", "Ask whether it was switched off."),
    Reason("weekdays-quiet", "A flow that never has a line on some weekdays, such as weekends.", "Declare `runs` for the weekdays on which it runs."),
    Reason("volume-unknown", "Nobody has said how often the flow runs.", "Declare `runs`."),
    Reason("price-unknown", "The rate card has no price for a model.", "Add it."),
    Reason("runs-more", "More runs than estimated.", "Declare what was counted."),
    Reason("runs-fewer", "Fewer runs than estimated.", "Declare what was counted."),
    Reason("calls-more", "More calls than estimated, in a log that does not tell runs.", "Map a column for `run`, if there is one."),
    Reason("calls-fewer", "Fewer calls than estimated, in a log that does not tell runs.", "Map a column for `run`, if there is one."),
    Reason("calls-per-run-more", "More calls a run: retries, loops, turns, other cases.", "Look at failures and shares."),
    Reason("calls-per-run-fewer", "Fewer calls a run.", "Look at shares, items and turns."),
    Reason("step-unknown", "Steps or models of the log that the definition does not have.", "Name them in `[steps]`, or read the flow's present export."),
    Reason("cost-differs", "A log that tells no calls, such as a bill, has more or less than estimated.", "Read a log of calls for the same days, too."),
    Reason("sizes-more", "Longer prompts or answers, or more of another unit.", "Declare `input`, `output`, `size`."),
    Reason("sizes-less", "Shorter prompts or answers, or less of another unit.", "Declare `input`, `output`, `size`."),
    Reason("unit-not-counted", "A unit that the estimate bills and the log does not count.", "Map its column, if there is one."),
    Reason("size-or-price", "The rate card cannot price what the log counts, or some calls say no tokens.", "Add the price, or log the tokens."),
    Reason("model-other", "Another model than the definition names.", "Ask who changed it."),
    Reason("price", "The log is for days as many times the rate card's prices; what goes up and down is left unexplained.", "Correct the card, or ask the vendor."),
    Reason("not-billed", "The log bills nothing for calls that have a price.", "Ask who is billed instead: another meter, a free quota."),
    Reason("rounding", "Costs of the log are rounded otherwise.", "Nothing."),
    Reason("host-switched", "A flow ran on another host from a day on.", "Nothing: it says where to look for the rest of its lines."),
    Reason("clock-off", "Flows with a clock of their own run whole hours beside their plan.", "Correct `zone` in the mapping."),
)  # fmt: skip

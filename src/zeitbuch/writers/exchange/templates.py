# The commented files that `init` writes. Models and flows found in the exports are filled in, prices and volumes
# are left to the owner: nothing is invented.
"""Texts of new workspace files."""

from __future__ import annotations

import datetime
import json
from collections.abc import Sequence

from zeitbuch.core.assumptions.quantities import QUANTITIES
from zeitbuch.core.estimate.scenario_records import Scenario
from zeitbuch.writers.escape.text import make_inert


def quote_toml(text: str) -> str:
    return json.dumps(make_inert(text, keep_lines=False), ensure_ascii=False)


def workspace_template(sources: Sequence[str], dialects: Sequence[str]) -> str:
    """A zeitbuch.toml."""
    named = ", ".join(quote_toml(text) for text in sources) or '"exports"'
    active = ", ".join(quote_toml(name) for name in dialects) or '"dialects/*.toml"'
    return f"""\
# The workspace of Zeitbuch: what commands without SOURCE read. Paths are taken from this file's folder.
sources = [{named}]

# Dialect files say how a builder writes its exports; patterns with * are allowed.
dialects = [{active}]

# What estimates rest on.
rates = "rates.toml"
assumptions = "assumptions.toml"
# month = "2026-11"             # of monthly figures; without it that of the assumptions, else the current one

# Where `zeitbuch record` keeps versions: an SQLite file (this one when nothing is said), or the URL of a PostgreSQL database.
# book = "book.sqlite"

# Budgets: `zeitbuch estimate` ends with exit status 1 when a figure is over its limit or not known. Without `flow` the
# limit per month is that of the estate, and the limit per run holds for every flow.
# [[budget]]
# flow = "Claims*"
# max_per_run = 0.05
# max_per_month = 40
# measure = "p90"               # mean (default), p50, p90 or p99

# The model map: which model a step calls when its file does not say so, as in files of open standards.
# [[model]]
# name = "Summarise*"           # the step's name; or operation = "serviceTask", flow = "Claims"
# model = "example-large-1"     # or model_at = "extensionElements.ask.engine"
# prompt = "text"               # the input, or the place in what was not read, that holds the prompt
"""


def rates_template(models: Sequence[str]) -> str:
    """A rate card with a table for each model found."""
    head = """\
# Rate card: what models cost. Prices hold from the date in `from` until a later one takes over.
# A model without a price is shown as unknown (?) in estimates and never counts as 0.
rate_card = 1
currency = "EUR"      # ISO 4217

# The keys of a price, all optional: input, cached, output (per million tokens), characters (per million, for speech),
# second, image, page, call (each), and deferred (the share that calls in deferred batches cost less). `until` ends a
# price where none follows. `also` lists other names of the model; * stands for anything.
#
# [[model]]
# name = "example-large-1"
# also = ["example-large-*"]
# tier = "large"                 # for meters that count calls by tier
# family = "a"                   # tokenizer family, docs/tokens.md; or tokenizer = "file.json" for exact counts
# currency = "USD"               # when it is not the card's; needs an [[exchange]]
# [[model.price]]
# from = 2026-01-01
# input = 2.50
# output = 10.00
#
# [[exchange]]                   # what one unit of another currency is in the card's, from a date on
# currency = "USD"
# from = 2026-01-01
# rate = 0.90
#
# Hosts run the flows and meter them: run, step, call, check, minute or megabyte.
# [[meter]]
# name = "steps"
# counts = "step"
# free = ["decide", "shape"]     # kinds of steps that are not counted; or kinds = [...] for those that are
# round_up = "run"               # no (default), run or month: up to whole units of size `unit`
# [[meter.price]]
# from = 2026-01-01
# included = 1000                # a month, for all flows of the host together
# each = 0.002
# [[meter.price.stair]]          # above so many, each further one
# above = 10000
# each = 0.001
#
# [[host]]
# name = "platform"
# meters = ["steps"]
# base = 20.00                   # a month
# [[host.flows]]
# flow = "*"                     # or folder, environment, format; from and until say when
"""
    tables = [
        f"\n[[model]]          # found in the exports; take the comment signs away and fill in\nname = {quote_toml(name)}\n"
        "# [[model.price]]\n# from = 2026-01-01\n# input = 0.00\n# output = 0.00\n"
        for name in models
    ]
    return head + "".join(tables)


def assumptions_template() -> str:
    """An assumptions file that says what can be said, with nothing in it yet."""
    width = max(map(len, QUANTITIES))
    keys = "\n".join(f"#   {name:<{width}}  {meaning}" for name, (_, _, meaning) in QUANTITIES.items())
    return f"""\
# Assumptions: what the exports do not say. Without an entry a default holds, and the estimate says so.
assumptions = 1
# month = "2026-11"   # of monthly figures, where neither --month nor the workspace names one; else the current month

# Each [[assume]] says where it applies (flow, environment, step, case, trigger: ids or names, * stands for anything) and
# gives one or more quantities. The most specific entry wins, among equals the later one. An entry may hold on some days
# only (from, until, weekdays; see below): on them it wins over one for the same places and all days.
{keys}
# A quantity is a number, or a range: {{ low = 1, likely = 4, high = 9 }}. Volumes and shares are the same for a whole
# month: their range says how well they are known. All else varies from run to run; how well its mean is known is said
# by mean_low and mean_high: {{ low = 1, likely = 4, high = 9, mean_low = 3, mean_high = 6 }}, or without variation
# {{ mean = 4, mean_low = 3, mean_high = 6 }}. A number without a range is taken as certain.
# `evidence` is "declared" (somebody says so) or "measured" (somebody counted); `note` says who or where.
#
# [[assume]]
# flow = "Name of the flow"
# step = "Name of the decision"
# case = "label of the case"
# share = 0.7
# evidence = "measured"
# note = "counted in October"
#
# [[assume]]
# flow = "Name of the flow"
# trigger = "*"
# events = {{ low = 300, likely = 400, high = 900 }}
#
# [[assume]]
# flow = "Name of the flow"
# trigger = "*"
# from = 2026-12-20
# until = 2027-01-07   # the first day on which it holds no more
# weekdays = ["saturday", "sunday"]
# events = 2000        # a month, at the rate of those days
#
# How declared volumes go over the year, January first; 1 is an average month.
# [[season]]
# flow = "Name of the flow"
# factors = [1, 1, 1, 1, 1, 1.5, 2, 2, 1, 1, 1, 1]
"""


def scenario_file(found: Scenario, check: str) -> str:
    """A scenario file, with what must be checked before as a comment."""
    import msgspec
    import tomlkit

    data = {"scenario": 1, **msgspec.to_builtins(found, builtin_types=(datetime.date,))}
    return f"# Check before: {make_inert(check, keep_lines=False)}\n{tomlkit.dumps(data)}"

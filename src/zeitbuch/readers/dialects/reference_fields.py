# The keys that steps of some kinds and triggers have, in [step] and in [[kind]] alike.
"""Reference of the fields of steps."""

from __future__ import annotations

from .reference_records import Key

FIELDS = (
    Key("model", "Where the model's name is.", 'model = "given.brain"'),
    Key(
        "prompts",
        "Where instruction texts are, each with its role.",
        'prompts = [{ path = "given.orders", role = "system" }]',
    ),
    Key("temperature", "Where the temperature is.", 'temperature = "given.warmth"'),
    Key("max_output", "Where the most tokens of an answer are.", 'max_output = "given.longest"'),
    Key("max_turns", "Where the most turns of an agent are.", 'max_turns = "given.rounds"'),
    Key(
        "tools",
        "Where the names of the tools are that an agent may use, and that are no steps; the rules for operations say by their names what they do.",
        'tools = "given.may_use"',
    ),
    Key("task", "Where the builder says what a model step is for.", 'task = "given.job"'),
    Key(
        "condition",
        "Where the condition of a decision, or of a trigger, is; of a step that decides nothing it is its own.",
        'condition = "given.test"',
    ),
    Key(
        "cases",
        "Where the cases of a decision are, and what a case holds.",
        'cases = { at = "given.ways", outlet = "exit", label = "title" }',
    ),
    Key("items", "Where the list that a loop goes over is, or its name.", 'items = "given.over"'),
    Key("until", "Where the condition that ends a loop is.", 'until = "given.stop_when"'),
    Key(
        "as_long_as",
        "Where the condition is as long as which a loop goes round: it ends where that does not hold.",
        'as_long_as = "given.keep_on"',
    ),
    Key("cap", "Where the most rounds of a loop are.", 'cap = "given.at_most"'),
    Key(
        "method",
        "Where the method of a call is, which says whether it may change something (RFC 9110); among the settings it stays an input.",
        'method = "given.verb"',
    ),
    Key(
        "statement",
        "Where the statement for a database is (SQL), which says whether a step of kind read, write or delete is one of these; among the settings it stays an input.",
        'statement = "given.sql"',
    ),
    Key("calls", "Where the flow that a step calls is named.", 'calls = "given.plan"'),
    Key(
        "cron",
        "Where a cron text, a recurrence rule (RFC 5545), a repeating interval (ISO 8601) or words such as *every weekday at 06:30* are.",
        'cron = "given.times"',
    ),
    Key("every", "Where the interval of a trigger is: a number, or a duration.", 'every = "given.count"'),
    Key(
        "every_unit", "The unit of an interval that is a bare number and has none beside it.", 'every_unit = "minutes"'
    ),
    Key("unit", "Where the unit of the interval stands.", 'unit = "given.of_what"'),
    Key(
        "units",
        "What the builder's words for units mean. Without it the usual words of ten languages are known.",
        'units = { Std = "hours" }',
    ),
    Key(
        "days",
        "Where the days of the week are, a list or a text with commas; not together with days of the month.",
        'days = "given.days"',
    ),
    Key(
        "weekdays",
        "What the builder's words for the days of the week mean. Without it their English names are known.",
        'weekdays = { man = "mon", tir = "tue" }',
    ),
    Key("month_days", "Where the days of the month are.", 'month_days = "given.dates"'),
    Key("time", "Where the time of the day is, or several: 08:30, 8.30, 8:30 pm.", 'time = "given.at"'),
    Key("hour", "Where the hour of the day is as a number, or several.", 'hour = "given.hh"'),
    Key("minute", "Where the minute of that hour is, 0 without it.", 'minute = "given.mm"'),
    Key("zone", "Where the time zone is.", 'zone = "given.zone"'),
    Key(
        "event",
        "Where the event, address or form of a trigger is named; all values of a list are taken.",
        'event = "given.fields.*.name"',
    ),
    Key("batch", "Where the most items handed to one run are.", 'batch = "given.at_once"'),
    Key("authentication", "Where it says how a caller shows who it is.", 'authentication = "given.proof"'),
    Key("wait", "Where the time that a step waits is.", 'wait = "given.span"'),
    Key("wait_unit", "The unit of a wait that is a bare number.", 'wait_unit = "minutes"'),
    Key("wait_until", "Where the moment or event that a step waits for is.", 'wait_until = "given.event"'),
    Key("approvers", "Where those who are asked are, one or several.", 'approvers = "given.who"'),
    Key("approvals_needed", "Where it says how many must agree.", 'approvals_needed = "given.votes"'),
    Key("silence", "Where it says what no answer means.", 'silence = "given.silent"'),
    Key(
        "silences",
        "What the builder's words for that mean: approves, rejects, escalates or waits. Without it these are known.",
        'silences = { drop = "rejects" }',
    ),
    Key(
        "timeout_for", "Where it says whether a time limit is for one try or for all.", 'timeout_for = "given.limit_is"'
    ),
    Key(
        "timeouts_for",
        "What the builder's words for that mean: try or all. Without it these are known.",
        'timeouts_for = { whole = "all" }',
    ),
    Key(
        "sample", "Where the data kept for trying are that stand in for a step's result.", 'sample = "given.rehearsal"'
    ),
    Key("piece_size", "Where the size of the pieces is into which a text is cut.", 'piece_size = "given.size"'),
    Key("piece_overlap", "Where it says what neighbouring pieces share.", 'piece_overlap = "given.shared"'),
    Key("piece_unit", "What size and overlap are counted in.", 'piece_unit = "letters"'),
    Key("piece_batch", "Where it says how many pieces one call embeds.", 'piece_batch = "given.together"'),
    Key("pieces_found", "Where it says how many pieces a search gives.", 'pieces_found = "given.nearest"'),
    Key("store", "Where the store that is filled or searched is named.", 'store = "given.into"'),
    Key("concurrency", "Where the most rounds or branches at a time are.", 'concurrency = "given.side_by_side"'),
    Key("ordered", "Where it says that the ways of a step run one after the other.", 'ordered = "given.in_turn"'),
    Key("awaits", "Where it says whether a step waits for the flow it calls.", 'awaits = "given.stays"'),
    Key("on_item_fault", "Where it says what a loop does when an item fails.", 'on_item_fault = "given.broken"'),
    Key(
        "on_item_faults",
        "What the builder's words for that mean: stop or continue. Without it these are known.",
        'on_item_faults = { halt = "stop" }',
    ),
    Key("join", "Where it says when a step goes on to which several ways lead.", 'join = "given.mode"'),
    Key(
        "joins",
        "What the builder's words for that mean: each, all or once. Without it these are known.",
        'joins = { everybody = "all" }',
    ),
    Key(
        "own_condition",
        "Where the condition is under which a step runs at all, a text or an object: a decision is put before the step. Not of a kind whose `condition` is at the same place.",
        'own_condition = "only_with"',
    ),
    Key("skip_condition", "The same, of a condition under which it does not run.", 'skip_condition = "never_with"'),
    Key(
        "unmet",
        "What comes then: continue, which is what is meant without it (the flow goes on behind the step, or where the ways of its cases meet again), or stop.",
        'unmet = "stop"',
    ),
    Key(
        "own_items",
        "Where the list is for whose items a step repeats itself, its name, lists to combine, or how often: a loop is put around the step. Not of steps that decide.",
        'own_items = "for_all"',
    ),
    Key("own_until", "The same, of a condition until which a step repeats itself.", 'own_until = "again.until"'),
    Key("own_cap", "Where the most rounds of such a step are.", 'own_cap = "again.at_most"'),
    Key("about", "Where a note names the steps that it is about.", 'about = "of"'),
)

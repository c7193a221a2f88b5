# Triggers and schedules in words. Kept apart from prose.py because the inventory needs only this much.
"""Plain words for triggers, schedules and kinds."""

from __future__ import annotations

from .kinds import TRIGGERS
from .records import Flow, Schedule, Trigger
from .rule_words import rule_words

_DAYS = ("Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_SHORT = {"sun": 0, "mon": 1, "tue": 2, "wed": 3, "thu": 4, "fri": 5, "sat": 6}
_MONTHS = (
    "", "January", "February", "March", "April", "May", "June", "July", "August", "September", "October",
    "November", "December",
)  # fmt: skip


def ordinal_word(n: int) -> str:
    """1 -> '1st'."""
    ending = "th" if 10 <= n % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n}{ending}"


def join_words(items: list[str] | tuple[str, ...], word: str = "and") -> str:
    """'a, b and c'."""
    if len(items) < 2:
        return "".join(items)
    return f"{', '.join(items[:-1])} {word} {items[-1]}"


def count_words(n: int, word: str) -> str:
    """'1 step', '2 steps'."""
    if n == 1:
        return f"{n} {word}"
    if word.endswith(("s", "x", "ch", "sh")):
        return f"{n} {word}es"
    if word.endswith("y") and word[-2] not in "aeiou":
        return f"{n} {word[:-1]}ies"
    return f"{n} {word}s"


def times_words(n: int) -> str:
    """'once', 'up to 3 times'."""
    return "once" if n == 1 else f"up to {n} times"


def _day_number(field: str) -> int | None:
    if field.isdecimal() and int(field) <= 7:
        return int(field)
    return _SHORT.get(field[:3].lower())


def _weekday_words(field: str) -> str | None:
    if field in ("1-5", "MON-FRI", "mon-fri", "1,2,3,4,5"):
        return "on weekdays"
    if field in ("0,6", "6,0", "6-7", "6,7"):
        return "at weekends"
    if "-" in field and "," not in field and "/" not in field:
        return _days_between(field)
    days = [_day_number(name) for name in field.split(",")]
    if any(distance is None for distance in days):
        return None
    return "every " + join_words([_DAYS[distance] for distance in days if distance is not None])


def _days_between(field: str) -> str | None:
    ends = [_day_number(name) for name in field.split("-")]
    if len(ends) == 2 and ends[0] is not None and ends[1] is not None:
        return f"{_DAYS[ends[0]]} to {_DAYS[ends[1]]}"
    return None


def _clock_words(minute: str, hour: str) -> str | None:
    if minute.isdecimal():
        return _hours_words(int(minute), hour)
    if minute == "*" and hour == "*":
        return "every minute"
    step = _even_step(minute, 60)
    if step is None:
        return None
    if hour == "*":
        return f"every {count_words(step, 'minute')}"
    first, _, last = hour.partition("-")
    if first.isdecimal() and last.isdecimal():
        return f"every {count_words(step, 'minute')} from {int(first):02d}:00 to {int(last):02d}:59"
    return None


def _hours_words(minute: int, hour: str) -> str | None:
    """The hours of a cron text that fires at one minute of them."""
    if hour == "*":
        return f"every hour at {minute} past" if minute else "every hour on the hour"
    step = _even_step(hour, 24)
    if step is not None:
        return f"every {count_words(step, 'hour')}" + (f" at {minute} past" if minute else "")
    hours = hour.split(",")
    if all(name.isdecimal() for name in hours):
        return "at " + join_words([f"{int(name):02d}:{minute:02d}" for name in hours])
    return None


def _even_step(field: str, whole: int) -> int | None:
    """The step of "*/15" where it divides the whole: "*/45" fires at 0 and 45 past, not every 45 minutes."""
    step = int(field[2:]) if field.startswith("*/") and field[2:].isdecimal() else 0
    return step if step and whole % step == 0 else None


def cron_words(cron: str) -> str:
    """A cron text of five fields in words; what has no plain wording is quoted."""
    fields = cron.split()
    if len(fields) != 5:
        return f"cron '{cron}'"
    minute, hour, day, month, weekday = fields
    times = _clock_words(minute, hour)
    if times is None:
        return f"cron '{cron}'"
    parts = []
    if day != "*":
        days = day.split(",")
        if not all(name.isdecimal() for name in days):
            return f"cron '{cron}'"
        parts.append("on the " + join_words([ordinal_word(int(name)) for name in days]))
    if month != "*":
        months = month.split(",")
        if not all(name.isdecimal() and 1 <= int(name) <= 12 for name in months):
            return f"cron '{cron}'"
        parts.append("in " + join_words([_MONTHS[int(name)] for name in months]))
    if weekday != "*":
        named = _weekday_words(weekday)
        if named is None:
            return f"cron '{cron}'"
        parts.append(f"or {named}" if day != "*" else named)
    if not parts and times.startswith("at "):
        parts.append("daily")
    return " ".join([*parts, times])


def span_words(seconds: float) -> str:
    """900 -> '15 minutes'."""
    for size, word in ((86400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size and seconds % size == 0:
            return count_words(int(seconds // size), word)
    return count_words(int(seconds), "second") if seconds == int(seconds) else f"{seconds:g} seconds"


def took_words(seconds: float | None) -> str:
    """A time that was measured: 0.31 -> '0.31 s', 6.42 -> '6.4 s', 38422 -> '10.7 h', 244198 -> '2.83 days'; nothing for None."""
    if seconds is None:
        return ""
    for size, unit, word in ((2 * 86400, 86400, "days"), (3600, 3600, "h"), (60, 60, "min")):
        if seconds >= size:
            return f"{seconds / unit:.3g} {word}"
    return f"{seconds:.2g} s"


def every_words(seconds: float) -> str:
    """900 -> 'every 15 minutes', 3600 -> 'every hour'."""
    words = span_words(seconds)
    return "every " + (words[2:] if words.startswith("1 ") else words)


def schedule_words(schedule: Schedule) -> str:
    """A schedule in words, with its time zone and the variable that holds it."""
    return _words_of_clock(schedule) + (f", the value of {schedule.variable}" if schedule.variable else "")


def _words_of_clock(schedule: Schedule) -> str:
    if schedule.cron is not None:
        zone = f" ({schedule.zone})" if schedule.zone else " (no time zone stated)"
        return cron_words(schedule.cron) + zone
    if schedule.every is not None:
        return every_words(schedule.every)
    if schedule.rule is not None or schedule.repeat is not None:
        zone = f" ({schedule.zone})" if schedule.zone else ""
        if schedule.rule is not None and (words := rule_words(schedule.rule)) is not None:
            return words + zone
        return f"by the rule {' '.join((schedule.rule or schedule.repeat or '').split())}{zone}"
    return "at times not stated"


def trigger_words(trigger: Trigger) -> str:
    """What starts a flow, in words."""
    row = TRIGGERS[trigger.kind]
    words = row.words_with_event.format(event=trigger.event) if trigger.event and row.words_with_event else row.words
    if trigger.schedule is not None and row.is_clocked:
        clock = schedule_words(trigger.schedule)
        words = f"looks for new items {clock}" if trigger.kind == "polling" else clock
    if trigger.authentication:
        words += f" (callers: {trigger.authentication})"
    if trigger.batch:
        words += f", up to {trigger.batch} at a time"
    if trigger.condition:
        words += f", if {trigger.condition}"
    return words if trigger.enabled else f"{words} (switched off)"


def triggers_words(flow: Flow) -> str:
    """All triggers of a flow in words."""
    return "; ".join(trigger_words(trigger) for trigger in flow.triggers) or "nothing"


def name_words(name: str) -> list[str]:
    """The words of a name in any spelling, in small letters: 'chunkSize' -> ['chunk', 'size']."""
    words, word = [], ""
    for letter in name:
        if not letter.isalnum():
            words.append(word)
            word = ""
        elif letter.isupper() and word and not word[-1].isupper():
            words.append(word)
            word = letter
        else:
            word += letter
    return [w.lower() for w in [*words, word] if w]


def letter_number(n: int) -> str:
    """1 -> 'a', 27 -> 'aa'."""
    text = ""
    while n > 0:
        n, rest = divmod(n - 1, 26)
        text = chr(97 + rest) + text
    return text

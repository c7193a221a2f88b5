# Schedules as people say them: "every weekday at 06:30", "alle 15 Minuten", "on the 1st of every month at 9am". Each word has to be known:
# of "every other Monday" nothing is read rather than half of it.
"""Schedules in words."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable

from zeitbuch.core.model.records import Schedule

from .clock_texts import UNIT_SECONDS

# In eight languages (English, German, French, Spanish, Norwegian, Dutch, Italian, Portuguese).
WEEKDAY_WORDS = {
    "sun": "sun sunday so sonntag dim dimanche dom domingo son sondag zo zondag domenica",
    "mon": "mon monday mo montag lun lundi lunes man mandag ma maandag lunedi seg segunda",
    "tue": "tue tues tuesday di dienstag mar mardi martes tir tirsdag dinsdag martedi ter terca",
    "wed": "wed wednesday mi mittwoch mer mercredi mie miercoles ons onsdag wo woensdag mercoledi qua quarta",
    "thu": "thu thur thurs thursday do donnerstag jeu jeudi jue jueves tor torsdag donderdag gio giovedi qui quinta",
    "fri": "fri friday fr freitag ven vendredi vie viernes fre fredag vr vrijdag venerdi sex sexta",
    "sat": "sat saturday sa samstag sonnabend sam samedi sab sabado lor lordag za zaterdag sabato",
}
CRON_DAYS = tuple(WEEKDAY_WORDS)  # 0 is Sunday
_DAY_OF = {word: place for place, listed in enumerate(WEEKDAY_WORDS.values()) for word in listed.split()}
_SEVERAL_DAYS = {"weekday": [1, 2, 3, 4, 5], "workday": [1, 2, 3, 4, 5], "weekend": [6, 0]}
_EVERY = frozenset(
    "every each alle jede jeden jeder jedes chaque tous toutes cada todos todas hver hvert elke iedere ogni".split()
)
_FILLED = frozenset(
    "at on the of in um am im den der a le les de du las los el en om op van il i o os as ao das kl klokken uhr and und et y e og s".split()
)
_UNTIL = frozenset("to through thru bis au til tot al - –".split())
_SIGNS = frozenset(",;&+().")
# What a word says of how often, with the plain forms of its unit.
_OFTEN = {
    "minute": "minute minuto minut minuut minutt",
    "hour": "hourly hour stundlich stunde heure hora ora uur time",
    "day": "day daily taglich quotidien diario diariamente daglig dagelijks giornaliero tag jour dia dag giorno",
    "week": "weekly wochentlich hebdomadaire semanal ukentlig wekelijks settimanale week woche semaine semana uke settimana",
    "month": "monthly monatlich mensuel mensual manedlig maandelijks mensile mensal month monat mois mes maned maand mese",
}
_OFTEN_OF = {word: unit for unit, words in _OFTEN.items() for word in words.split()}
_SPANS = {"minute": 60.0, "hour": 3600.0, "day": 86400.0, "week": 604800.0}
_TOKEN = re.compile(
    r"(?P<time>\d{1,2}[:.h]\d{2}(?!\d)(?:\s*[ap]\.?m\b\.?)?|\d{1,2}\s*[ap]\.?m\b\.?|\d{1,2}(?=\s*uhr\b)|\b(?:noon|midnight)\b)"
    r"|(?P<nth>\d{1,2}(?:st|nd|rd|th|\.(?=\s))|day\s+\d{1,2}\b)|(?P<number>\d{1,4})"
    r"|(?P<zone>[a-z]+(?:/[a-z_+-]+)+|\b(?:utc|gmt)\b)|(?P<word>[^\W\d_]+)|(?P<sign>[-–,;&+().])|(?P<other>\S)",
    re.IGNORECASE,
)
_TIME = re.compile(r"\btime(?:s|r)?\b")
_CLOCK = re.compile(r"(\d{1,2})(?:[:.h](\d{2}))?\s*(?:([ap])\.?m\.?)?", re.IGNORECASE)
_LONGEST = 80  # letters
_SHORT = 4  # letters of a word for a day that is cut short
_ONCE_EACH = 2  # days and times; what follows both is of other days
_NOON = {"noon": (12, 0), "midnight": (0, 0)}


def schedule_of_words(text: str, zone: str | None = None) -> Schedule | None:
    """The schedule that words say; None where one of them is not known, or they leave open what they mean. A time zone among them
    counts before ``zone``."""
    said = _Said()
    if len(text) > _LONGEST or _is_each_time(text) or not said.take_all(text) or len(said.zones) > 1:
        return None
    where = said.zones[0] if said.zones else zone
    if said.spans:
        return Schedule(every=said.spans[0], zone=zone) if said.is_one_span else None
    if said.days or said.month_days:
        return _on_days(said, where)
    return _again_and_again(said, where)


def _is_each_time(text: str) -> bool:
    """Whether a text says *time* in English; in Norwegian that is an hour."""
    low = text.casefold()
    return _TIME.search(low) is not None and "hver" not in low


def _on_days(said: _Said, zone: str | None) -> Schedule | None:
    """On days of the week or of the month; without a time of the day by a rule, where a word says that they come again."""
    weekly = bool(said.days)
    fits = said.often <= {"week"} if weekly else said.often == {"month"}
    if not fits or (weekly and said.month_days):
        return None
    if said.times:
        cron = cron_text(said.times, said.days, said.month_days)
        return Schedule(cron=cron, zone=zone) if cron else None
    told = said.every or bool(said.often)  # "mon" and "so" are many things
    return Schedule(rule=_rule_of(said), zone=zone) if told else None


def _rule_of(said: _Said) -> str:
    names = ",".join(CRON_DAYS[day][:2].upper() for day in sorted(set(said.days)))
    return f"FREQ=WEEKLY;BYDAY={names}" if names else f"FREQ=MONTHLY;BYMONTHDAY={','.join(map(str, said.month_days))}"


def _again_and_again(said: _Said, zone: str | None) -> Schedule | None:
    """Each day at times, or each hour, day or week."""
    unit = next(iter(said.often)) if len(said.often) == 1 else ""
    if said.times:
        cron = cron_text(said.times, [], []) if unit == "day" else ""
        return Schedule(cron=cron, zone=zone) if cron else None
    return Schedule(every=_SPANS[unit], zone=zone) if unit in _SPANS else None


def cron_text(times: list[tuple[int, int]], days: list[int], month_days: list[int]) -> str:
    """The cron text of times on days; empty where none can say it."""
    minutes = {minute for _, minute in times}
    if len(minutes) != 1 or (days and month_days):
        return ""  # one cron text cannot say it: days of the week and of the month together would mean either of them
    hours = ",".join(str(hour) for hour, _ in times)
    week = ",".join(str(day) for day in sorted(set(days))) or "*"
    month = ",".join(str(day) for day in month_days) or "*"
    return f"{minutes.pop()} {hours} {month} * {week}"


class _Said:
    """What the words of a schedule say, as far as they were read."""

    def __init__(self) -> None:
        self.times: list[tuple[int, int]] = []
        self.days: list[int] = []
        self.month_days: list[int] = []
        self.often: set[str] = set()
        self.spans: list[float] = []
        self.zones: list[str] = []
        self.every = False
        self.number: int | None = None  # that waits for its unit
        self.until = False  # the last of a row of days follows
        self.runs = ""  # of days and times, in turns

    @property
    def is_one_span(self) -> bool:
        """Whether a length of time is said, and nothing else."""
        others = self.times or self.days or self.month_days or self.often
        return self.every and len(self.spans) == 1 and not others

    def take_all(self, text: str) -> bool:
        """Take all words; whether all are known, in an order that can be meant."""
        for hit in _TOKEN.finditer(_plain(text)):
            kind, word = hit.lastgroup or "", hit.group()
            taken = self._take_unit(word) if self.number is not None else _TAKING[kind](self, word)
            if not taken:
                return False
        self.zones = [_spelled_zone(hit["zone"]) for hit in _TOKEN.finditer(text) if hit["zone"]]
        return self.number is None and not self.until and len(self.runs) <= _ONCE_EACH

    def _note(self, what: str) -> None:
        self.runs += what if not self.runs.endswith(what) else ""

    def _take_unit(self, word: str) -> bool:
        span = (UNIT_SECONDS.get(word) or _SPANS.get(_unit_of(word), 0.0)) * (self.number or 0)
        self.spans.append(span)
        self.number = None
        return span > 0

    def take_number(self, word: str) -> bool:
        self.number = int(word)
        return not self.until

    def take_date(self, word: str) -> bool:
        day = int(re.sub(r"\D", "", word))
        self.month_days.append(day)
        self._note("d")
        return 1 <= day <= 31

    def take_time(self, word: str) -> bool:
        time = _time_of(word)
        self.times += [time] if time is not None else []
        self._note("t")
        return time is not None

    def take_zone(self, _word: str) -> bool:
        return True

    def take_sign(self, word: str) -> bool:
        if word in _UNTIL:
            self.until = bool(self.days)
            return self.until
        return word in _SIGNS

    def take_word(self, word: str) -> bool:
        if word in _UNTIL and self.days and not self.until:
            self.until = True
            return True
        days = _days_of(word)
        if self.until:
            return self._take_last(days)
        if days:
            self.days += days
            self._note("d")
            return True
        return self._take_how_often(word)

    def _take_last(self, days: list[int]) -> bool:
        """All days from the one before to this."""
        if len(days) != 1:
            return False
        first, self.until = self.days[-1], False
        self.days += [(first + step) % 7 for step in range(1, (days[0] - first) % 7 + 1)]
        return True

    def _take_how_often(self, word: str) -> bool:
        unit = _unit_of(word) if word not in _FILLED else ""
        self.often |= {unit} if unit else set()
        self.every = self.every or word in _EVERY
        return bool(unit) or word in _FILLED or word in _EVERY


_TAKING: dict[str, Callable[[_Said, str], bool]] = {
    "time": _Said.take_time, "nth": _Said.take_date, "number": _Said.take_number, "zone": _Said.take_zone, "word": _Said.take_word,
    "sign": _Said.take_sign, "other": lambda _said, _word: False,
}  # fmt: skip


def _spelled_zone(text: str) -> str:
    return text if "/" in text else text.upper()


def _days_of(word: str) -> list[int]:
    """The days of the week that a word names, also with the ending of several."""
    several = _SEVERAL_DAYS.get(word.removesuffix("s"))
    one = _DAY_OF.get(word, _DAY_OF.get(word[:-1]) if word.endswith("s") and len(word) > _SHORT else None)
    return several or ([one] if one is not None else [])


def _time_of(word: str) -> tuple[int, int] | None:
    """Hour and minute; None where it is no time of the day."""
    hit = _CLOCK.fullmatch(word)
    if word in _NOON or hit is None:
        return _NOON.get(word)
    hour, minute = int(hit[1]), int(hit[2] or 0)
    if hit[3]:
        hour = hour % 12 + (12 if hit[3] == "p" else 0) if 1 <= hour <= 12 else 24
    return (hour, minute) if hour < 24 and minute < 60 else None


def _plain(text: str) -> str:
    """In small letters, without accents."""
    apart = unicodedata.normalize("NFKD", text.casefold())
    return "".join(letter for letter in apart if not unicodedata.combining(letter)).replace("ø", "o")


def _unit_of(word: str) -> str:
    return _OFTEN_OF.get(word) or next((unit for known, unit in _OFTEN_OF.items() if _is_plural(word, known)), "")


def _is_plural(word: str, known: str) -> bool:
    """Whether a word is a plain word for a time with the ending of several: minutes, Minuten, timer, ore, minuti."""
    return (word.startswith(known) and word[len(known) :] in ("s", "en", "n", "e", "er", "r")) or (
        known[-1:] in ("o", "a") and word[:-1] == known[:-1] and word[-1:] in ("i", "e")
    )

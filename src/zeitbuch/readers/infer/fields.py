# What the settings of steps hold: prompts, model names, clock texts, cases, calls of flows, placeholders. Judged by the
# values; key names only add weight.
"""Finding the meaning of settings."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable
from re import Pattern
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_number

from .survey import STAR, Path
from .vocabulary import words_of

STAMP = re.compile(r"^\d{4}-\d\d-\d\d[T ]\d\d:\d\d")
MODEL = re.compile(r"^[A-Za-z][A-Za-z0-9]*(?:[\-._/:@][A-Za-z0-9]+)*$")
_WORD = re.compile(r"[^\W\d_]{2,}")
_FILLED = re.compile(
    r"[{<\[(%$#@]{1,3}[^\s{}<>]{1,120}[}>\])%$#]{1,3}"
)  # a placeholder says nothing about the text around it
_MODEL_WORDS = frozenset("model llm brain modell modele modelo mind deployment modello motor".split())
_NOT_MODEL = frozenset(
    "json text auto true false none markdown html xml string object array number boolean default standard high low medium get post".split()
)
_PROMPT_WORDS = frozenset(
    "prompt system instruction instructions ask question message content user template anweisung frage aufgabe consigne "
    "instruccion instrucciones oppdrag opdracht istruzioni instrucoes".split()
)


class Column(NamedTuple):
    """All values at one path in the steps of some operations, and in how many steps they occur."""

    path: Path
    values: list[Any]
    steps: int


def find_columns(records: Iterable[list[tuple[Path, Any]]]) -> tuple[dict[Path, Column], int]:
    """The leaves of records by path, and how many records there are."""
    found: dict[Path, Column] = {}
    total = 0
    for leaves in records:
        total += 1
        seen: set[Path] = set()
        for path, value in leaves:
            column = found.get(path)
            if column is None:
                column = found[path] = Column(path, [], 0)
            column.values.append(value)
            if path not in seen:
                seen.add(path)
                found[path] = column._replace(steps=column.steps + 1)
    return found, total


def reads_like_prose(value: Any) -> bool:
    """Whether a text reads like instructions: several words, mostly letters."""
    if type(value) is not str or len(value) < 18:
        return False
    bare = _FILLED.sub(" ", value)
    words = _WORD.findall(bare)
    letters = sum(len(item) for item in words)
    return len(words) >= 4 and letters >= 0.55 * len("".join(bare.split())) and bare.count(" ") >= 3


_WRITTEN_AS = frozenset(
    "const constant literal static fixed raw value val expr expression wert valeur valor valore".split()
)


def key_in(path: Path, listed: frozenset[str]) -> bool:
    """Whether the last named key of a path has one of the words; that above it, where it only says how the value is written."""
    keys = [part for part in path if part != STAR]
    if len(keys) > 1 and keys[-1].lower() in _WRITTEN_AS:
        keys.pop()
    return bool(keys) and any(word in listed for word in words_of(keys[-1]))


def is_model_key(path: Path) -> bool:
    """Whether a field is called what models are called."""
    return key_in(path, _MODEL_WORDS)


def is_prompt_key(path: Path) -> bool:
    """Whether a field is called what instructions are called."""
    return key_in(path, _PROMPT_WORDS)


def find_prompts(
    found: dict[Path, Column], total: int, elsewhere: dict[Path, Column], shared: Callable[[Path], bool]
) -> list[Path]:
    """Paths of instruction texts in the steps that use a model; ``shared`` says that other steps have the path too."""
    good: list[tuple[float, Path]] = []
    beside: list[tuple[float, Path]] = []  # what every call is given from other steps, which needs no words of its own
    for path, column in found.items():
        texts = [value for value in column.values if type(value) is str and value]
        if not texts or shared(path):
            continue
        share = sum(map(reads_like_prose, texts)) / len(texts)
        filled = sum(bool(BRACKETED.search(text)) for text in texts) / len(texts)
        if _may_instruct(share, filled, key_in(path, _PROMPT_WORDS)):
            good.append((share * column.steps / max(1, total), path))
        elif filled >= 0.9 and column.steps >= 0.9 * total > 1 and path not in elsewhere and not is_model_key(path):
            beside.append((0.0, path))
    good += beside if good else []
    return [pair for _, pair in sorted(good, key=lambda g: (-g[0], g[1]))]


def _may_instruct(prose: float, filled: float, worded: bool) -> bool:
    """By the shares of texts that read like prose and that hold placeholders, and whether the key is one of instructions."""
    return prose >= (0.25 if worded else 0.5) or (worded and filled >= 0.5)


def _is_taken_from_elsewhere(text: str) -> bool:
    """Whether a text is a placeholder and nothing else."""
    matched = BRACKETED.search(text)
    return matched is not None and matched[0] == text.strip()


_MOSTLY_MODELS = 0.8  # of the texts of a field that names models
_NAMED_ELSEWHERE = 2.0  # points of a field that is called a model and holds a placeholder each time


def find_model(found: dict[Path, Column], total: int, known: Callable[[str], bool]) -> list[Path]:
    """Paths of model names, the best first; ``known`` tells names of steps, connections and the like."""
    rated: list[tuple[float, Path]] = []
    for path, column in found.items():
        texts = [value for value in column.values if type(value) is str and value]
        if not texts or len(texts) < 0.9 * len(column.values):
            continue
        own = [value for value in texts if not _is_taken_from_elsewhere(value)]
        if not own and is_model_key(path):
            rated.append((_NAMED_ELSEWHERE, path))  # a variable that these files do not hold names it
        like = [value for value in own if _may_name_model(value) and not known(value)]
        if own and len(like) >= _MOSTLY_MODELS * len(own):
            _rate_model_names(total, like, path, column, rated)
    rated.sort(key=lambda r: (-r[0], r[1]))
    return [pair for share, pair in rated if share >= rated[0][0] - 0.9][:3] if rated else []


def _may_name_model(text: str) -> bool:
    return bool(MODEL.match(text)) and 3 <= len(text) <= 70 and text.lower() not in _NOT_MODEL


def first_of_lists(paths: list[Path], columns: dict[Path, Column]) -> list[Path]:
    """The paths, of lists of several models those of their first: which of them answers hangs on what the others are for."""
    several = {path for path in paths if path in columns and len(columns[path].values) > columns[path].steps}
    return [(*path[:-1], "0") if path in several and path[-1] == STAR else path for path in paths]


def _rate_model_names(total: int, like: list[str], path: Path, column: Column, rated: list[tuple[float, Path]]) -> None:
    digits = sum(any(letter.isdigit() for letter in value) for value in like) / len(like)
    parts = sum(any(letter in value for letter in "-.:/") for value in like) / len(like)
    distinct = len(set(like)) / len(like)
    worded = key_in(path, _MODEL_WORDS)
    spread = column.steps / max(1, total)
    score = 1.2 * digits + 0.8 * parts + 2.5 * worded + 1.2 * spread + 0.4 * (1 - distinct)
    if score >= 1.9 and (worded or digits > 0.5 or parts > 0.7):
        rated.append((score, path))


def find_numbers(found: dict[Path, Column]) -> dict[str, Path]:
    """Temperature, longest output and turns of model steps, by key words and the size of the numbers."""
    wanted: tuple[tuple[str, str, Callable[[float], bool]], ...] = (
        ("temperature", "temperature temperatur temperatura creativity randomness", lambda v: 0 <= v <= 2),
        (
            "max_output",
            "max cap limit tokens length maxtokens output lange laenge longueur longitud lengde lengte",
            lambda v: 8 <= v <= 1_000_000,
        ),
        (
            "max_turns",
            "turns iterations steps loops runden tours vueltas iteraciones maxturns",
            lambda v: 1 <= v <= 100,
        ),
    )
    result: dict[str, Path] = {}
    columns = {path: _numbers_of(column) for path, column in sorted(found.items())}
    for name, listed, right in wanted:
        words = frozenset(listed.split())
        for path, numbers in columns.items():
            if numbers and key_in(path, words) and all(map(right, numbers)):
                result.setdefault(name, path)
    if "temperature" not in result:
        _fractional_numbers(found, result)
    return result


def _numbers_of(column: Column) -> list[float]:
    """The values of a column where all are numbers, also written as texts, as the attributes of XML are."""
    numbers = [as_number(value) for value in column.values]
    known = [number for number in numbers if number is not None]
    return known if len(known) == len(numbers) else []


def _fractional_numbers(found: dict[Path, Column], result: dict[str, Path]) -> None:
    """Small numbers with a fraction are a temperature, whatever they are called."""
    for path, column in sorted(found.items()):
        numbers = [value for value in column.values if type(value) in (int, float)]
        if any(type(value) is float and value != int(value) for value in numbers) and all(
            0 <= value <= 2 for value in numbers
        ):
            result["temperature"] = path
            break


class Delimiters(NamedTuple):
    """How placeholders are written, and how often such a text named a known step."""

    open: str
    close: str
    prefix: str
    separator: str
    model: str
    variable: str
    trigger: str
    seen: int
    resolved: int


BRACKETED = re.compile(
    r"(?P<open>[^\w\s\"'.,;:!?\\()\-]{1,3}\(?|\(\()(?P<inner>(?:[^\n{}<>\[\]|]|[-=]>){1,120}?)(?P<close>[^\w\s\"'.,;:!?\\(\-]{1,3})"
)
_OPENERS = frozenset("{[(<%$#@«‹~^|")  # what a placeholder may begin with; a slash is a path, a star a clock text
_DECIDES = frozenset("ai ask model choose auto agent llm decide fill".split())


def find_placeholders(texts: list[str], names: set[str], triggers: set[str], held: str = "") -> Delimiters | None:
    """The delimiters within which the names of steps stand most often; ``held``: what stands before the name of a variable."""
    pairs, known, inner, by_name = _count_brackets(texts, names)
    pairs = Counter({pair: number for pair, number in pairs.items() if set(pair[0]) & _OPENERS})
    if not pairs:
        return None
    best = max(pairs, key=lambda p: (known[p] * 3 + pairs[p], len(p[0])))
    if not known[best] and pairs[best] < 3:
        return None
    bodies = inner[best]
    prefix, separator = _around_names(bodies, by_name)
    model, variable, trigger = _openings_without_names(triggers, bodies, by_name)
    variable = held if held and any(body.startswith(held) for body in bodies) else variable
    return Delimiters(best[0], best[1], prefix, separator, model, variable, trigger, pairs[best], known[best])


def _count_brackets(
    texts: list[str], names: set[str]
) -> tuple[Counter[tuple[str, str]], Counter[tuple[str, str]], dict[tuple[str, str], list[str]], Pattern[str]]:
    """How often texts stand within each pair of delimiters, and how often a step is named there."""
    pairs: Counter[tuple[str, str]] = Counter()
    known: Counter[tuple[str, str]] = Counter()
    inner: dict[tuple[str, str], list[str]] = {}
    longest = sorted((name for name in names if len(name) > 1 or name.isalnum()), key=len, reverse=True)
    by_name = re.compile("|".join(map(re.escape, longest[:4000]))) if longest else re.compile(r"(?!)")
    for value in texts:
        for matched in BRACKETED.finditer(value):
            for pair in _matching_pairs(matched["open"], matched["close"]):
                body = matched["inner"].strip()
                pairs[pair] += 1
                inner.setdefault(pair, []).append(body)
                hit = by_name.search(body)
                known[pair] += bool(hit)
    return pairs, known, inner, by_name


def _around_names(bodies: list[str], by_name: Pattern[str]) -> tuple[str, str]:
    """What stands before the name of a step, and what separates it from what is taken."""
    prefixes: Counter[str] = Counter()
    separators: Counter[str] = Counter()
    for body in bodies:
        hit = by_name.search(body)
        if hit:
            prefixes[body[: hit.start()]] += 1
            rest = body[hit.end() :].lstrip("'\"]) ")
            if rest:
                separators[rest[0]] += 1
    prefix = next(
        (part for part, number in prefixes.most_common(1) if part and number >= 0.5 * sum(prefixes.values())), ""
    )
    separator = separators.most_common(1)[0][0] if separators else "."
    return prefix, separator


def _openings_without_names(triggers: set[str], bodies: list[str], by_name: Pattern[str]) -> tuple[str, str, str]:
    """How placeholders begin that name no step: filled by the model, a variable, the trigger."""
    model = variable = trigger = ""
    for body in bodies:
        if by_name.search(body):
            continue
        said = re.match(r"([$@#]?[A-Za-z]+)\s*([:(|!])", body)
        if said and any(word in _DECIDES for word in words_of(said[1])):
            model = model or said[0]
        elif held := re.match(r"[$@#]?(?:vars?|variables?|env|store|const|global)s?[.:]", body):
            variable = variable or held[0]
        else:
            head = re.split(r"[.:\[ ]", body, maxsplit=1)[0]
            if head.lower() in ("trigger", "start", "event", "input", "payload") or head in triggers:
                trigger = trigger or head
    return model, variable, trigger


_MIRROR = str.maketrans("([{<", ")]}>")


def _matching_pairs(opening: str, closing: str) -> list[tuple[str, str]]:
    """Pairs of an opening and the closing that mirrors it."""
    found: list[tuple[str, str]] = []
    for size in range(len(opening), 0, -1):
        part = opening[-size:]
        mirrored = part[::-1].translate(_MIRROR)
        _closings_of(closing, mirrored, part, found)
        if found:
            break
    return found


def _closings_of(closing: str, mirrored: str, part: str, found: list[tuple[str, str]]) -> None:
    for want in (mirrored, part.translate(_MIRROR).replace("$", "").replace("%", "%")[::1]):
        if want and closing.startswith(want) and (part, want) not in found:
            found.append((part, want))
    plain = "".join(letter for letter in part if letter in "([{<").translate(_MIRROR)[::-1]
    if plain and closing.startswith(plain) and (part, plain) not in found and plain != mirrored:
        found.append((part, plain))


def texts_of(value: Any) -> list[str]:
    """All texts below a value."""
    found: list[str] = []
    stack = [value]
    while stack:
        item = stack.pop()
        if type(item) is str:
            found.append(item)
        elif type(item) is dict:
            stack += item.values()
        elif type(item) is list:
            stack += item
    return found

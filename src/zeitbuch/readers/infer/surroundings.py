# What stands around the steps (name, state, owners, time stamps, connections, variables of a flow) and the everyday
# fields within them (switched off, notes, positions, retries, time limits, the scope they stand in).
"""Finding the fields of flows and the common fields of steps."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.dialects.flow_rules import Items
from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.infer.survey import Group

from .clocks import CRON
from .fields import STAMP, Column, key_in
from .flow_states import STATE_KEYS, find_state, is_state_key
from .join_index import Joins
from .named_values import VARIABLE_WORDS, value_and_about
from .steps import Found
from .survey import STAR, Path, dotted_path, find_groups, find_leaves, is_scalar, json_path

_FLOW_WORDS: dict[str, str] = {
    "id": "id key ref uid uuid code codigo codice kode number slug tag clave cle chiave nokkel nr",
    "name": "name title heading label titel nom titre nombre titulo navn tittel naam nome titolo bezeichnung caption",
    "description": "description about purpose summary descr beschreibung zweck descripcion beskrivelse formal omschrijving descrizione descricao doc",
    "state": STATE_KEYS,
    "owners": "owner owners author creator people responsible besitzer eigentumer proprietaire dueno propietario eier eigenaar "
              "dono dona proprietario responsavel responsable verantwortlich zustandig zustaendig contact maintainers users by",
    "folder": "folder directory ordner dossier carpeta mappe map cartella pasta category project group space section",
    "environment": "environment env stage site tenant umgebung environnement entorno miljo omgeving ambiente region host",
    "version": "version revision edition rev utgave versie versione versao release",
}  # fmt: skip
_NAMES = (
    "name title label",
    "service svc type kind app provider",
    "account acct as user login",
)  # of a connection, the best first
CONNECTION_WORDS = frozenset(
    "connection connections conn conns credential credentials account accounts auth verbindung connexion conexion tilkobling verbinding "
    "connessione conexao konto link integration".split()
)


def is_word_for(field: str, path: Path) -> bool:
    """Whether a field of a flow is called what such fields are called."""
    return is_state_key(path) if field == "state" else key_in(path, frozenset(_FLOW_WORDS[field].split()))


def flow_fields(found: Found, used: list[Path]) -> dict[str, Any]:
    """Values for the [flow] table: dotted paths and the words of the state."""
    columns, result, stamps, count = _fields_by_words(found, used)
    _name_beside_title(columns, result, count)
    taken = set(result.values())
    if "name" not in result:
        _human_name(columns, taken, result)
    if "description" not in result:
        _long_text(columns, taken, result)
    if "id" not in result:
        _unique_key(columns, taken, count, result)
    find_state(columns, result, count)
    if "owners" not in result:
        _people_in_records(columns, result)
    if "owners" not in result:
        _mail_addresses(columns, result)
    _first_and_last(stamps, result)
    return result


def _fields_by_words(
    found: Found, used: list[Path]
) -> tuple[dict[Path, list[Any]], dict[str, Any], list[tuple[Path, list[Any]]], int]:
    """Fields whose key says what they are, and the columns that hold points in time."""
    columns: dict[Path, list[Any]] = {}
    for sample in found.samples:
        for path, value in find_leaves(_flow_head(sample.raw, used), depth=4):
            columns.setdefault(path, []).append(value)
    result: dict[str, Any] = {}
    stamps: list[tuple[Path, list[Any]]] = []
    count = len(found.samples)
    for path, values in columns.items():
        texts = [value for value in values if type(value) is str]
        if texts and len(texts) == len(values) and all(STAMP.match(value) for value in texts):
            stamps.append((path, values))
            continue
        called = (field for field in _FLOW_WORDS if field not in result and is_word_for(field, path))
        field = next((one for one in called if _fits_field(one, path, values, count)), "")
        if field:
            result[field] = path
    return columns, result, stamps, count


def _name_beside_title(columns: dict[Path, list[Any]], result: dict[str, Any], count: int) -> None:
    """Where a flow has a name without blanks and a title beside it, the title is what people read and the name is the id."""
    short = result.get("name")
    names = list(map(as_text, columns[short])) if short is not None else []
    if short is None or any(" " in name for name in names):
        return
    beside = [path for path in columns if path not in result.values() and is_word_for("name", path)]
    title = next((path for path in beside if path[:-1] == short[:-1] and _are_titles(columns[path], len(names))), None)
    if title is None:
        return
    result["name"] = title
    if "id" not in result and len(set(names)) == count == len(names):
        result["id"] = short


def _are_titles(values: list[Any], count: int) -> bool:
    """Whether nearly each is a few words."""
    words = sum(type(value) is str and 0 < value.count(" ") < 12 and len(value) < 90 for value in values)
    return words >= 0.8 * max(len(values), count)


def _human_name(columns: dict[Path, list[Any]], taken: set[Any], result: dict[str, Any]) -> None:
    human = [
        pair
        for pair, values in columns.items()
        if pair not in taken
        and STAR not in pair
        and all(type(item) is str and 2 < len(item) < 90 for item in values)
        and any(" " in item for item in values)
    ]
    if human:
        result["name"] = min(human, key=lambda p: (len(p), p not in columns))
        taken.add(result["name"])


def _long_text(columns: dict[Path, list[Any]], taken: set[Any], result: dict[str, Any]) -> None:
    long = [
        pair
        for pair, values in columns.items()
        if pair not in taken
        and STAR not in pair
        and len(pair) <= 2
        and all(type(item) is str and _is_sentence(item) for item in values)
    ]
    if long:
        result["description"] = long[0]
        taken.add(long[0])


def _is_sentence(text: str) -> bool:
    """Whether a text is several words: a cron text has as many parts."""
    parts = text.split()
    return len(parts) >= 5 and sum(any(map(str.isalpha, part)) for part in parts) >= 3 and not CRON.match(text.strip())


def _unique_key(columns: dict[Path, list[Any]], taken: set[Any], count: int, result: dict[str, Any]) -> None:
    unique = [
        pair for pair, values in columns.items()
        if pair not in taken and STAR not in pair and len(pair) == 1 and len(values) == count and all(is_scalar(item) for item in values)
        and len(set(map(as_text, values))) == count and not any(" " in as_text(item) for item in values)
    ]  # fmt: skip
    if unique:
        result["id"] = unique[0]


def _people_in_records(columns: dict[Path, list[Any]], result: dict[str, Any]) -> None:
    """The names of people, or their addresses, in a record or in several under a word for owners."""
    words = frozenset(_FLOW_WORDS["owners"].split())
    found = [
        path
        for path, values in columns.items()
        if any(key_in((key,), words) for key in path[:-1]) and path[-1] != STAR and all(map(is_scalar, values))
        and _fits_field("owners", path, values, 0)
    ]  # fmt: skip
    if found:
        result["owners"] = min(found, key=lambda path: (not is_word_for("name", path), len(path), path))


def _mail_addresses(columns: dict[Path, list[Any]], result: dict[str, Any]) -> None:
    mail = [
        pair
        for pair, values in columns.items()
        if all(type(item) is str and "@" in item and " " not in item for item in values)
    ]
    if mail:
        result["owners"] = mail[0]


def _first_and_last(stamps: list[tuple[Path, list[Any]]], result: dict[str, Any]) -> None:
    stamps.sort(key=lambda s: min(map(str, s[1])))
    if len(stamps) >= 2:
        result["created"], result["changed"] = stamps[0][0], stamps[-1][0]
    elif stamps:
        result["changed"] = stamps[0][0]


def _flow_head(raw: Any, used: list[Path]) -> dict[str, Any]:
    """The flow without its steps, links and the like."""
    kept: dict[str, Any] = {}
    for key, value in raw.items() if type(raw) is dict else ():
        below = [path[1:] for path in used if path[:1] == (key,)]
        if not below:
            kept[key] = value
        elif type(value) is dict and all(path and path[0] != STAR for path in below):
            kept[key] = _flow_head(value, below)
    return kept


def _fits_field(field: str, path: Path, values: list[Any], count: int) -> bool:
    """Whether values may be those of a field of a flow."""
    if field == "state":
        return len(path) <= 2 and all(map(_may_be_state, values))
    if field == "owners":
        return all(type(value) is str and 2 < len(value) < 80 for value in values) and any(map(_is_person, values))
    longest = {"id": 80, "version": 80, "folder": 80, "environment": 80, "name": 150}.get(field)
    if len(path) > 2 or STAR in path or not all(map(is_scalar, values)):
        return False
    return longest is None or all(len(as_text(value)) < longest for value in values)


def _may_be_state(value: Any) -> bool:
    return type(value) is bool or (type(value) is str and len(value) < 20)


def _is_person(text: str) -> bool:
    return " " in text or "@" in text


def find_connections(found: Found, columns: dict[Path, Column], joins: Joins) -> tuple[Items | None, Path]:
    """The list of connections of a flow, and the path by which steps name one."""
    best: tuple[float, Items, Path] | None = None
    for group in find_groups([sample.raw for sample in found.samples]):
        if group.path[: len(found.steps_at) - 1] == found.steps_at[:-1] and len(found.steps_at) > 1:
            continue
        if group.path == joins.at:
            continue
        best = _best_key_of(columns, group, best)
    return (best[1], best[2]) if best is not None else (None, _connection_within(columns))


def _connection_within(columns: dict[Path, Column]) -> Path:
    """What names the connection in a record that steps hold themselves: its name, else its service, else its account."""
    held = [path for path in columns if len(path) > 1 and STAR not in path and key_in(path[:-1], CONNECTION_WORDS)]
    texts = [path for path in held if all(type(value) is str for value in columns[path].values)]
    named = [path for words in _NAMES for path in texts if key_in(path, frozenset(words.split()))]
    return named[0] if named else ()


def _best_key_of(
    columns: dict[Path, Column], group: Group, best: tuple[float, Items, Path] | None
) -> tuple[float, Items, Path] | None:
    for key in [
        *dict.fromkeys(key for item in group.items for key in item.value),
        *(["@key"] if group.keyed else []),
    ]:
        best = _best_path_of(columns, group, best, key)
    return best


def _best_path_of(
    columns: dict[Path, Column], group: Group, best: tuple[float, Items, Path] | None, key: str
) -> tuple[float, Items, Path] | None:
    ids = {as_text(item.value.get(key)) for item in group.items if is_scalar(item.value.get(key))}
    if key == "@key":
        ids = {item.key for item in group.items}
    for path, column in columns.items():
        texts = [as_text(value) for value in column.values if is_scalar(value)]
        hits = sum(value in ids for value in texts)
        if texts and hits >= 0.8 * len(texts) and hits >= 2 and len(set(texts)) > 1:
            score = hits / len(texts) + column.steps / 1000 + key_in(path, CONNECTION_WORDS)
            if best is None or score > best[0]:
                best = (score, _items_at(group.path, key, [item.value for item in group.items]), path)
    return best


def _items_at(path: Path, key: str, records: list[dict[str, Any]]) -> Items:
    rest = [
        name
        for name in dict.fromkeys(key for row in records for key in row)
        if name != key and all(type(row.get(name)) is str for row in records if name in row)
    ]
    chosen = _fields_by_words_of(records, rest)
    name, service, account = [
        dotted_path((chosen[field],)) if chosen.get(field) else "" for field in ("name", "service", "account")
    ]
    return Items(at=json_path(path), id=dotted_path((key,)), name=name, service=service, account=account)


def _fields_by_words_of(records: list[dict[str, Any]], rest: list[str]) -> dict[str, str]:
    words = {
        "name": frozenset("name title label titel nom nombre navn naam nome".split()),
        "service": frozenset("service type sort kind app provider dienst typ tipo tjeneste dienst servizio".split()),
        "account": frozenset("account as user login konto compte cuenta owner".split()),
    }
    chosen = {field: next((key for key in rest if key_in((key,), listed)), "") for field, listed in words.items()}
    left = [key for key in rest if key not in chosen.values()]
    if not chosen["name"] and left:
        chosen["name"] = next((key for key in left if any(" " in row.get(key, "") for row in records)), left[0])
    return chosen


def find_variables(found: Found, joins: Joins) -> Items | None:
    """A list of named values of a flow."""
    for group in find_groups([sample.raw for sample in found.samples]):
        if group.path[:-1] == found.steps_at[:-1] or group.path == joins.at or not key_in(group.path, VARIABLE_WORDS):
            continue
        keys = list(dict.fromkeys(key for item in group.items for key in item.value))
        name = next((key for key in keys if all(type(item.value.get(key)) is str for item in group.items)), "")
        value, about = value_and_about(keys, name)
        if name or group.keyed:
            named, held, said = [dotted_path((key,)) if key else "" for key in (name, value, about)]
            return Items(at=json_path(group.path), name=named or "@key", value=held, description=said)
    return None

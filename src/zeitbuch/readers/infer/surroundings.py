# What stands around the steps (name, state, owners, time stamps, connections, variables of a flow) and the everyday
# fields within them (switched off, notes, positions, retries, time limits, the scope they stand in).
"""Finding the fields of flows and the common fields of steps."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.rules import Items

from .fields import STAMP, Column, key_in
from .joins import Joins
from .steps import Found
from .survey import STAR, Path, dotted_path, find_groups, find_leaves, is_scalar, json_path

_FLOW_WORDS: dict[str, str] = {
    "id": "id key ref uid uuid code number slug tag clave cle chiave nokkel nr",
    "name": "name title heading label titel nom titre nombre titulo navn tittel naam nome titolo bezeichnung caption",
    "description": "description about purpose summary descr beschreibung zweck descripcion beskrivelse formal omschrijving descrizione descricao doc",
    "state": "state status active enabled live running on aktiv actif activo activa actief attivo ativo running published deployed paused",
    "owners": "owner owners author creator keepers keeper people responsible besitzer eigentumer proprietaire dueno propietario eier eigenaar "
              "proprietario responsable verantwortlich contact maintainers users by",
    "folder": "folder drawer directory ordner dossier carpeta mappe map cartella pasta category project group space section",
    "environment": "environment env stage harbour site tenant umgebung environnement entorno miljo omgeving ambiente region host",
    "version": "version revision edition rev utgave versie versione versao release",
}  # fmt: skip
_ON = frozenset(
    "on yes true active enabled live running published ja oui si aktiv actif activo deployed started 1".split()
)
_OFF = frozenset(
    "off no false inactive disabled paused stopped archived nein non aus inaktiv retired suspended 0".split()
)
_DRAFT = frozenset("draft entwurf brouillon borrador utkast concept bozza rascunho test".split())
_PAIRS = (
    ("true", "false"),
    ("yes", "no"),
    ("on", "off"),
    ("active", "inactive"),
    ("enabled", "disabled"),
    ("ja", "nein"),
    ("oui", "non"),
)
_MOORING = frozenset(
    "connection connections credential credentials account accounts auth anchor mooring verbindung connexion conexion tilkobling verbinding "
    "connessione conexao konto link integration".split()
)


def flow_fields(found: Found, used: list[Path]) -> dict[str, Any]:
    """Values for the [flow] table: dotted paths and the words of the state."""
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
        for field, listed in _FLOW_WORDS.items():
            if (
                field not in result
                and key_in(path, frozenset(listed.split()))
                and _fits_field(field, path, values, count)
            ):
                result[field] = path
                break
    taken = set(result.values())
    if "name" not in result:
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
    if "description" not in result:
        long = [
            pair
            for pair, values in columns.items()
            if pair not in taken
            and STAR not in pair
            and all(type(item) is str and item.count(" ") >= 4 for item in values)
        ]
        if long:
            result["description"] = long[0]
            taken.add(long[0])
    if "id" not in result:
        unique = [
            pair for pair, values in columns.items()
            if pair not in taken and STAR not in pair and len(pair) == 1 and len(values) == count and all(is_scalar(item) for item in values)
            and len(set(map(as_text, values))) == count and not any(" " in as_text(item) for item in values)
        ]  # fmt: skip
        if unique:
            result["id"] = unique[0]
    if "state" not in result:
        switches = [
            pair for pair, values in columns.items() if len(pair) == 1 and all(type(item) is bool for item in values)
        ]
        if len(switches) == 1:
            result["state"] = switches[0]
    if "owners" not in result:
        mail = [
            pair
            for pair, values in columns.items()
            if all(type(item) is str and "@" in item and " " not in item for item in values)
        ]
        if mail:
            result["owners"] = mail[0]
    stamps.sort(key=lambda s: min(map(str, s[1])))
    if len(stamps) >= 2:
        result["created"], result["changed"] = stamps[0][0], stamps[-1][0]
    elif stamps:
        result["changed"] = stamps[0][0]
    if "state" in result:
        states = {as_text(value): _state_of_word(as_text(value)) for value in columns[result["state"]]}
        for pair in _PAIRS:
            if set(pair) & states.keys():
                states |= {word: _state_of_word(word) for word in pair}
        result["states"] = {key: value for key, value in sorted(states.items()) if value}
    return result


def _flow_head(raw: dict[str, Any], used: list[Path]) -> dict[str, Any]:
    """The flow without steps, links and the like, and without large inner parts."""
    kept: dict[str, Any] = {}
    for key, value in raw.items():
        if any(path[:1] == (key,) and len(path) <= 2 for path in used):
            continue
        kept[key] = value
    return kept


def _fits_field(field: str, path: Path, values: list[Any], count: int) -> bool:
    if field == "state":
        return len(path) <= 2 and all(
            type(value) is bool or (type(value) is str and len(value) < 20) for value in values
        )
    if field == "owners":
        return all(type(value) is str and 2 < len(value) < 80 for value in values) and any(
            " " in value or "@" in value for value in values
        )
    if STAR in path or not all(is_scalar(value) for value in values):
        return False
    if field in ("id", "version", "folder", "environment"):
        return len(path) <= 2 and all(len(as_text(value)) < 80 for value in values)
    if field == "name":
        return len(path) <= 2 and all(len(as_text(value)) < 150 for value in values)
    return len(path) <= 2


def _state_of_word(word: str) -> str:
    low = word.lower()
    return "on" if low in _ON else "off" if low in _OFF else "draft" if low in _DRAFT else ""


def find_connections(found: Found, columns: dict[Path, Column], joins: Joins) -> tuple[Items | None, Path]:
    """The list of connections of a flow, and the path by which steps name one."""
    best: tuple[float, Items, Path] | None = None
    for group in find_groups([sample.raw for sample in found.samples]):
        if group.path[: len(found.steps_at) - 1] == found.steps_at[:-1] and len(found.steps_at) > 1:
            continue
        if group.path == joins.at:
            continue
        for key in [
            *dict.fromkeys(key for item in group.items for key in item.value),
            *(["@key"] if group.keyed else []),
        ]:
            ids = {as_text(item.value.get(key)) for item in group.items if is_scalar(item.value.get(key))}
            if key == "@key":
                ids = {item.key for item in group.items}
            for path, column in columns.items():
                texts = [as_text(value) for value in column.values if is_scalar(value)]
                hits = sum(value in ids for value in texts)
                if texts and hits >= 0.8 * len(texts) and hits >= 2 and len(set(texts)) > 1:
                    score = hits / len(texts) + column.steps / 1000 + key_in(path, _MOORING)
                    if best is None or score > best[0]:
                        best = (score, _items_at(group.path, key, [item.value for item in group.items]), path)
    return (best[1], best[2]) if best is not None else (None, ())


def _items_at(path: Path, key: str, records: list[dict[str, Any]]) -> Items:
    rest = [
        name
        for name in dict.fromkeys(key for row in records for key in row)
        if name != key and all(type(row.get(name)) is str for row in records if name in row)
    ]
    words = {
        "name": frozenset("name title label titel nom nombre navn naam nome".split()),
        "service": frozenset("service type sort kind app provider dienst typ tipo tjeneste dienst servizio".split()),
        "account": frozenset("account as user login konto compte cuenta owner".split()),
    }
    chosen = {field: next((key for key in rest if key_in((key,), listed)), "") for field, listed in words.items()}
    left = [key for key in rest if key not in chosen.values()]
    if not chosen["name"] and left:
        chosen["name"] = next((key for key in left if any(" " in row.get(key, "") for row in records)), left[0])
    return Items(
        at=json_path(path), id=dotted_path((key,)), **{name: dotted_path((key,)) for name, key in chosen.items() if key}
    )


def find_variables(found: Found, joins: Joins) -> Items | None:
    """A list of named values of a flow."""
    words = frozenset(
        "variable variables vars store constants parameters values globals variablen variablene variabili variaveis".split()
    )
    for group in find_groups([sample.raw for sample in found.samples]):
        if group.path[:-1] == found.steps_at[:-1] or group.path == joins.at or not key_in(group.path, words):
            continue
        keys = list(dict.fromkeys(key for item in group.items for key in item.value))
        name = next((key for key in keys if all(type(item.value.get(key)) is str for item in group.items)), "")
        value = next(
            (
                key
                for key in keys
                if key != name
                and key_in(
                    (key,), frozenset("value start initial default wert valeur valor verdi waarde valore".split())
                )
            ),
            "",
        )
        about = next(
            (
                key
                for key in keys
                if key != name and key_in((key,), frozenset("about description note beschreibung".split()))
            ),
            "",
        )
        if name or group.keyed:
            given = {
                "value": dotted_path((value,)) if value else "",
                "description": dotted_path((about,)) if about else "",
            }
            return Items(at=json_path(group.path), name=dotted_path((name,)) if name else "@key", **given)
    return None


_STEP_WORDS: tuple[tuple[str, str, Callable[[Any], bool]], ...] = (
    ("enabled", "enabled active on aktiv actif activo actief attivo ativo", lambda v: type(v) is bool),
    ("disabled", "disabled muted off inactive deaktiviert skipped desactive deaktivert uitgeschakeld disattivato paused", lambda v: type(v) is bool),
    ("note", "note notes comment memo remark notiz kommentar nota notat opmerking hint annotation", lambda v: type(v) is str),
    ("retries", "retries retry attempts tries times wiederholungen versuche tentatives intentos forsok pogingen tentativi again", lambda v: type(v) is int and 0 <= v < 100),
    ("retry_wait", "pause backoff wait delay retrywait interval", lambda v: type(v) in (int, float)),
    ("timeout", "timeout limit deadline zeitlimit tidsgrense", lambda v: type(v) in (int, float)),
    ("on_fault", "fails onerror error fault onfail fehler failure", lambda v: type(v) is str and len(v) < 40),
)  # fmt: skip
_GO_ON = frozenset(
    "continue carry ignore skip weiter fortfahren continuer continuar fortsett doorgaan proceed resume go".split()
)


def step_fields(columns: dict[Path, Column], total: int, settings: Path) -> dict[str, Any]:
    """Everyday fields of steps outside their settings."""
    result: dict[str, Any] = {}
    for path, column in columns.items():
        if (settings and path[: len(settings)] == settings) or STAR in path or len(path) > 2:
            continue
        for field, listed, right in _STEP_WORDS:
            if (
                field not in result
                and field not in ("retry_wait",)
                and key_in(path, frozenset(listed.split()))
                and all(map(right, column.values))
            ):
                if field == "retries" and len(path) == 1 and key_in(path, frozenset(["times"])):
                    continue
                result[field] = path
                break
    if "retries" in result:
        near = [
            pair
            for pair in columns
            if len(pair) == len(result["retries"]) and pair[:-1] == result["retries"][:-1] and len(pair) > 1
        ]
        pause = [
            pair for pair in near if key_in(pair, frozenset("pause backoff wait delay interval pausa pausen".split()))
        ]
        if pause:
            result["retry_wait"] = pause[0]
    if "on_fault" in result:
        from .vocabulary import words_of

        words = sorted({str(value) for value in columns[result["on_fault"]].values})
        result["on_faults"] = {
            word: "continue" if any(text in _GO_ON for text in words_of(word)) else "stop" for word in words
        }
    position = _find_position(columns, total, settings)
    if position:
        result["position"] = list(position)
    return result


def _find_position(columns: dict[Path, Column], total: int, settings: Path) -> tuple[Path, Path] | None:
    """Two numeric columns side by side that most steps have: the place of the box."""
    numeric = [
        pair for pair, column in columns.items()
        if column.steps >= 0.8 * total and (not settings or pair[: len(settings)] != settings) and all(type(value) in (int, float) for value in column.values)
    ]  # fmt: skip
    for first in numeric:
        for second in numeric:
            if (
                first != second
                and first[:-1] == second[:-1]
                and (len(first) > 1 or (first[-1].lower().endswith("x") and second[-1].lower().endswith("y")))
            ):
                if first[-1].lower().endswith("y") and second[-1].lower().endswith("x"):
                    return second, first
                same = [pair for pair in numeric if pair[:-1] == first[:-1]]
                if len(same) == 2 or {pair[-1].lower() for pair in (first, second)} == {"x", "y"}:
                    return first, second
    # A list of two numbers has one column for both.
    for path, column in columns.items():
        if (
            path[-1] == STAR
            and column.steps >= 0.8 * total
            and len(column.values) == 2 * column.steps
            and all(type(value) in (int, float) for value in column.values)
        ):
            return (*path[:-1], "0"), (*path[:-1], "1")
    return None


def scope_path(found: Found, columns: dict[Path, Column], ids: list[dict[str, int]], scopes: list[set[int]]) -> Path:
    """The field in which a step names the loop or block it stands in."""
    best: tuple[int, Path] = (0, ())
    names = [
        {name for name, index in table.items() if index in inside} for table, inside in zip(ids, scopes, strict=True)
    ]
    every = set().union(*names) if names else set()
    for path, column in columns.items():
        texts = [as_text(value) for value in column.values if is_scalar(value) and value != ""]
        hits = sum(value in every for value in texts)
        if texts and hits >= 0.9 * len(texts) and STAR not in path and len(path) <= 2:
            best = max(best, (hits, path))
    return best[1]

# The typed facts of steps: who is asked, how long is waited, how much at a time, what inputs are for. One row a fact: the kinds of step
# that have it, what its key is called in eight languages, and what its values must be. Values decide where they can only mean one thing.
"""Finding the typed facts of steps."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.statements import is_statement
from zeitbuch.readers.dialects.step_facts import METHOD_EFFECTS

from .fields import STAMP, Column, key_in, reads_like_prose
from .own_conditions import are_operators
from .parts import placeholder_like
from .spans import is_spelled_time, is_time, span_objects, unit_of
from .surroundings import CONNECTION_WORDS
from .survey import STAR, Path, dotted_path
from .vocabulary import words_of

_MAIL = re.compile(r"[^@\s]+@[^@\s]+\.[^@\s]+")


def _whole(value: Any) -> bool:
    return type(value) is int and 0 < value <= 100_000


def _is_people(value: Any) -> bool:
    return type(value) is str and 0 < len(value) < 80 and not reads_like_prose(value)


def _is_mail(value: Any) -> bool:
    return type(value) is str and _MAIL.fullmatch(value.strip()) is not None


def _is_name(value: Any) -> bool:
    return type(value) is str and 0 < len(value) < 60


def _is_moment(value: Any) -> bool:
    return type(value) is str and (placeholder_like(value) or STAMP.match(value) is not None)


class _Fact(NamedTuple):
    """A fact: the key of the dialect, the kinds that have it, words for its key, what each value must be, and what tells it without
    a word."""

    key: str
    kinds: frozenset[str]
    words: frozenset[str]
    fits: Callable[[Any], bool]
    tells: Callable[[Any], bool] | None = None


def _fact(
    key: str, kinds: str, words: str, fits: Callable[[Any], bool], tells: Callable[[Any], bool] | None = None
) -> _Fact:
    return _Fact(key, frozenset(kinds.split()), frozenset(words.split()), fits, tells)


_SIZES = "chunk chunks piece pieces size length tokens stuck stucke morceau morceaux trozo trozos bit stykke stykker stuk stukken pezzo pezzi parte"
_FACTS = (
    _fact("wait", "wait", "wait delay duration pause sleep span length amount dauer warten pause duree attente espera pausa varighet vent ventetid "
          "wachttijd duur attesa durata espera duracao seconds minutes hours days sekunden minuten stunden", is_time, is_spelled_time),
    _fact("wait_until", "wait", "until till moment date bis jusque hasta fino frem tot ate", _is_moment, None),
    _fact("approvers", "approve", "approver approvers reviewer reviewers assignee assignees assigned who signer people person group role "
          "genehmiger freigeber prufer zustandig approbateur valideur relecteur aprobador revisor responsable godkjenner godkjennere ansvarlig "
          "goedkeurder beoordelaar approvatore revisore aprovador", _is_people, _is_mail),
    _fact("approvals_needed", "approve", "needed need required quorum votes approvals minimum least notig benotigt requis requeridos krever nodig richiesti "
          "necessari", lambda value: type(value) is int and 0 < value <= 50),
    _fact("piece_size", "embed parse", _SIZES, _whole),
    _fact("piece_overlap", "embed parse", "overlap uberlappung chevauchement solapamiento overlapp sovrapposizione", _whole),
    _fact("piece_batch", "embed", "batch together stapel lot lote bunke lotto", _whole),
    _fact("pieces_found", "retrieve", "top count limit results nearest number anzahl nombre numero antall aantal numero treffer hits k", _whole),
    _fact("store", "embed retrieve", "store index collection database base vectors speicher sammlung magasin collection almacen lager samling opslag "
          "verzameling raccolta archivio colecao", _is_name),
    _fact("awaits", "subflow", "wait waits await awaits blocking synchronous sync warten attendre esperar vent wachten attendi aspetta esperar",
          lambda value: type(value) is bool),
    _fact("concurrency", "loop parallel", "concurrency concurrent parallel parallelism simultaneous gleichzeitig simultane paralelo samtidig gelijktijdig "
          "parallelo", _whole),
)  # fmt: skip

# What words for values mean, as stems in eight languages, by the field of the dialect and its table of words.
_MEANINGS: tuple[tuple[str, str, str, str, dict[str, str]], ...] = (
    ("silence", "silences", "approve", "silence silent reply answer response antwort reponse respuesta svar antwoord risposta resposta "
     "timeout timeouts deadline expiry expires expired unanswered default overdue otherwise noanswer schweigen ablauf "
     "silencio stille frist verlopen silenzio scadenza",
     {"approves": "approv accept allow grant genehmig freigeb approuv aprob godkjen goedkeur approv aprov agree",
      "rejects": "reject refus declin deny cancel abort ablehn abbrech rechaz avvis avbryt afwijz rifiut rejeit discard",
      "escalates": "escalat eskal forward hand manager superior", "waits": "wait keep warte attend esper vent wacht remind"}),
    ("join", "joins", "join", "join mode wait waitfor when type merge strategy modus warten art modo modus modalita",
     {"all": "all every alle tous todo tutti both", "once": "any first one einer erste premier primer forste eerste primo primeiro race",
      "each": "each jede chaque cada hver elk ogni pass"}),
    ("on_item_fault", "on_item_faults", "loop", "error errors fault faults fail failure onerror fehler erreur error feil fout errore erro item",
     {"stop": "stop halt abort fail break abbrech arret parar stopp avbryt ferma", "continue": "continu skip ignor carry resume weiter poursui segui fortset "
      "doorgaan prosegu"}),
)  # fmt: skip

# What an input is for: the kinds that have such inputs, words for its key, and what its values must be without one.
_ROLES: tuple[tuple[str, frozenset[str], frozenset[str], Callable[[Any], bool] | None], ...] = (
    ("recipient", frozenset({"send"}), frozenset("to recipient recipients receiver receivers addressee whom empfanger destinataire destinatario mottaker "
     "ontvanger destinatari cc bcc".split()), _is_mail),
    ("address", frozenset({"http", "send", "write", "read"}), frozenset("url uri address endpoint webhook adresse direccion adres indirizzo endereco".split()),
     lambda value: type(value) is str and "://" in value),
    ("content", frozenset({"send", "write"}), frozenset("text body message content html inhalt nachricht contenu texte contenido tekst melding bericht testo "
     "messaggio conteudo mensagem".split()), reads_like_prose),
    ("amount", frozenset({"http", "write", "send", "tool", "other"}), frozenset("amount sum total price betrag summe montant importe belop bedrag importo "
     "valor".split()), None),
    ("query", frozenset({"read", "delete", "retrieve"}), frozenset("query filter where search sql condition abfrage suche requete filtre consulta sok sporring "
     "zoek filtro ricerca".split()), None),
)  # fmt: skip


def kind_facts(kind: str, columns: dict[Path, Column], taken: set[str]) -> dict[str, Any]:
    """The facts that steps of one operation have, as keys of its rule. ``taken`` are dotted paths that say something else."""
    found: dict[str, Any] = {}
    usable = {path: column for path, column in columns.items() if dotted_path(_bare(path)) not in taken}
    for fact in _FACTS:
        if kind in fact.kinds:
            _find_fact(fact, usable, found)
    spans = span_objects(usable) if kind == "wait" and "wait" not in found else []
    if len(spans) == 1:
        found["wait"] = dotted_path(spans[0])
    if kind == "http":
        found |= _method_of_calls(usable)
    if kind in ("read", "write", "delete"):
        found |= _statements(usable)
    for key, table, of_kind, words, meanings in _MEANINGS:
        if kind == of_kind:
            found |= _worded_fact(key, table, frozenset(words.split()), meanings, usable, found)
    return found


def _method_of_calls(columns: dict[Path, Column]) -> dict[str, str]:
    words = [
        path
        for path, c in sorted(columns.items())
        if STAR not in path and c.values and all(type(v) is str and v.upper() in METHOD_EFFECTS for v in c.values)
    ]
    return {"method": dotted_path(words[0])} if words else {}


def _statements(columns: dict[Path, Column]) -> dict[str, str]:
    """Where the statement for a database is: a field of which every text is one."""
    paths = [
        path
        for path, c in sorted(columns.items())
        if STAR not in path and c.values and all(map(_is_statement, c.values))
    ]
    return {"statement": dotted_path(paths[0])} if paths else {}


def _is_statement(value: Any) -> bool:
    return type(value) is str and is_statement(value)


def _bare(path: Path) -> Path:
    return path[:-1] if path[-1:] == (STAR,) else path


def _find_fact(fact: _Fact, columns: dict[Path, Column], found: dict[str, Any]) -> None:
    chosen = _place_of_fact(
        fact, {path: c for path, c in columns.items() if dotted_path(_bare(path)) not in found.values()}
    )
    if chosen is None:
        return
    if fact.key == "wait":
        unit = unit_of(chosen, columns[chosen].values)
        if unit is None:
            return  # thirty seconds or thirty minutes: it is asked
        found |= {"wait_unit": unit} if unit != "seconds" else {}
    found[fact.key] = dotted_path(_bare(chosen))


def _place_of_fact(fact: _Fact, columns: dict[Path, Column]) -> Path | None:
    """Where a fact stands: where both its key and its values say so, else its key, else its values alone."""
    good = [path for path, column in columns.items() if column.values and all(map(fact.fits, column.values))]
    named = [path for path in good if key_in(path, fact.words)]
    told = [path for path in good if fact.tells is not None and tells_all(fact.tells, columns[path].values)]
    return next(iter(sorted(named or told, key=lambda path: (path not in told, len(path), path))), None)


def _worded_fact(
    key: str,
    table: str,
    words: frozenset[str],
    meanings: dict[str, str],
    columns: dict[Path, Column],
    found: dict[str, Any],
) -> dict[str, Any]:
    """A fact whose values are words of the builder's own, with what they mean."""
    for path, column in sorted(columns.items(), key=lambda entry: (len(entry[0]), entry[0])):
        if STAR in path or not key_in(path, words) or dotted_path(path) in found.values():
            continue
        said = _meanings_in(column, meanings)
        if said and all(said.values()):
            own = any(word != meaning for word, meaning in said.items())
            return {key: dotted_path(path), **({table: said} if own else {})}
    return {}


def _meanings_in(column: Column, meanings: dict[str, str]) -> dict[str, str]:
    """The words of a column with what they mean; empty where it holds anything but words."""
    if not all(type(value) is str for value in column.values):
        return {}
    return {value: _meaning_of(value, meanings) for value in sorted(set(column.values))}


def _meaning_of(said: str, meanings: dict[str, str]) -> str:
    """What a word means, or one of several words; empty where they mean nothing or two things."""
    found = {
        meaning
        for word in words_of(said)
        for meaning, stems in meanings.items()
        if word.startswith(tuple(stems.split()))
    }
    return found.pop() if len(found) == 1 else ""


def input_roles(kind: str, columns: dict[Path, Column], settings: Path, taken: set[str]) -> dict[str, str]:
    """What inputs of a kind of step are for, by their names."""
    found: dict[str, str] = {}
    for path, column in sorted(columns.items()):
        bare = _bare(path)
        name = bare[len(settings) :]
        if bare[: len(settings)] != settings or not 0 < len(name) <= 2 or STAR in bare or dotted_path(bare) in taken:
            continue
        if len(name) > 1 and key_in(name[:-1], CONNECTION_WORDS):
            continue  # whose account it is, not who gets something
        role = next(
            (role for role, kinds, words, tells in _ROLES if kind in kinds and _is_for(path, column, words, tells)), ""
        )
        if role:
            found[".".join(name)] = role
    return found


def _is_for(path: Path, column: Column, words: frozenset[str], tells: Callable[[Any], bool] | None) -> bool:
    if not column.values or any(type(value) is bool for value in column.values):
        return False
    return key_in(path, words) or (tells is not None and tells_all(tells, column.values))


def tells_all(tells: Callable[[Any], bool], values: list[Any]) -> bool:
    """Whether values tell what they are; references to values of other steps may stand among them."""
    own = [value for value in values if not (type(value) is str and placeholder_like(value))]
    return bool(own) and all(map(tells, own))


def unclear_wait(kind: str, columns: dict[Path, Column], rule_wait: str) -> Path:
    """The number that can hardly be anything but how long a step waits, where nothing tells its unit; empty when there is none."""
    if kind != "wait" or rule_wait:
        return ()
    words = next(fact.words for fact in _FACTS if fact.key == "wait")
    numbers = [path for path, column in columns.items() if _are_amounts(column) and not _is_compared(path, columns)]
    named = [path for path in numbers if key_in(path, words)]
    chosen = named or numbers
    return chosen[0] if len(chosen) == 1 else ()


def _is_compared(path: Path, columns: dict[Path, Column]) -> bool:
    """Whether a number stands in an object that says how it compares."""
    beside = [column for other, column in columns.items() if len(path) > 1 and other[:-1] == path[:-1]]
    return any(are_operators(column.values) for column in beside)


def _are_amounts(column: Column) -> bool:
    return bool(column.values) and all(type(value) in (int, float) and value > 0 for value in column.values)


def trigger_facts(trigger: str, columns: dict[Path, Column]) -> dict[str, str]:
    """How callers of a trigger show who they are."""
    if trigger not in ("webhook", "form", "chat", "tool-call", "call"):
        return {}
    words = frozenset(
        "auth authentication authentifizierung authentification autenticacion autentisering authenticatie autenticazione security proof".split()
    )
    named = [
        p for p, c in sorted(columns.items()) if STAR not in p and key_in(p, words) and all(map(_is_name, c.values))
    ]
    return {"authentication": dotted_path(named[0])} if named else {}

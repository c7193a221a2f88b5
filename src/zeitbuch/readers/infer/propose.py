# From files to a proposal: reading them, keeping those that are written alike, and the closest kinds for operations
# that nobody classified.
"""Proposing a dialect for files."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import PurePath
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail, place_within
from zeitbuch.core.model.records import Origin
from zeitbuch.core.model.words import count_words
from zeitbuch.readers.dialects.flow_rules import Signature
from zeitbuch.readers.dialects.query import Query
from zeitbuch.readers.dialects.recogniser import Recogniser
from zeitbuch.readers.dialects.rules import Dialect
from zeitbuch.readers.input.decode import decode_document
from zeitbuch.readers.input.file_documents import LINES, documents_of
from zeitbuch.readers.input.joined_documents import file_holding, joined_documents
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.packages import package_members
from zeitbuch.readers.input.plain_xml import plain_document
from zeitbuch.readers.input.sources import Input, Suffixes, is_package, load_input, name_of
from zeitbuch.readers.input.tables import TABLES
from zeitbuch.readers.input.xml_tree import Element

from .alike import group_alike
from .claims import Claim
from .element_sequences import sequences_of
from .pairs_of_files import Paired, paired_files
from .suggest import Suggestion, suggest_dialect
from .vocabulary import guess_kinds

# Those that exports may have and that are looked into only where a dialect asks for it.
OTHER_SUFFIXES = (*TABLES, *LINES, ".toml")
MOST_DOCUMENTS = 60  # of those that a proposal rests on
MOST_FLOWS = 60  # of one document
MOST_GROUPS = 24  # of documents written alike that are tried, the largest: a folder of many objects has few builders


class Proposal(NamedTuple):
    """A proposal, the files it is for, those that are written in another way, and those without anything like steps; ``documents``
    are those of the files it is for, each with its name."""

    made: Suggestion
    used: list[str]
    others: list[str]
    bare: list[str]
    documents: list[tuple[str, Any]]


def read_documents(
    inputs: Iterable[Input], limits: Limits, tell: Callable[[int], None], also: Suffixes = ()
) -> tuple[list[tuple[str, Any]], list[Problem]]:
    """All readable documents of listed files and packages, each with its name, XML as elements; ``tell`` hears how many are done."""
    found: list[tuple[str, Any]] = []
    problems: list[Problem] = []
    for done, listed in enumerate(inputs):
        tell(done)
        if isinstance(listed, Problem):
            problems.append(listed)
            continue
        name, item = name_of(listed), load_input(listed, limits)
        inside = (
            package_members(name, item.data, limits, also)
            if is_package(name) and isinstance(item.data, bytes)
            else [item]
        )
        for one in inside:
            origin = Origin(one.name, member=one.member)
            if isinstance(one.data, Problem):
                problems.append(one.data)
            elif one.data is not None:
                found += _decoded(origin, one.data, limits, problems)
    return found, problems


def _decoded(origin: Origin, data: bytes, limits: Limits, problems: list[Problem]) -> list[tuple[str, Any]]:
    """The documents of a file, each with its name."""
    found = []
    for place, part in documents_of(origin, data):
        try:
            value = decode_document(place.member or place.source, part, limits)[0]
            found.append((place.file, value))
        except ZeitbuchError as error:
            problems.append(place_within(error.problem, place))
    return found


def plain_documents(found: Iterable[tuple[str, Any]], signature: Signature | None = None) -> list[tuple[str, Any]]:
    """Documents as a dialect of this signature sees them: XML as plain values, those of one file apart or together."""
    sequences = signature.sequences if signature is not None else ()
    plain = [(file, plain_document(value, sequences) if isinstance(value, Element) else value) for file, value in found]
    return joined_documents(plain) if signature is not None and signature.together else plain


def trim_document(value: Any, depth: int = 0) -> Any:
    """A document with long lists of flows cut: what many of them teach, a few do. Lists of plain records stay whole."""
    if depth > 4:
        return value
    if isinstance(value, dict):
        return {key: trim_document(item, depth + 1) for key, item in value.items()}
    if isinstance(value, list):
        if len(value) > MOST_FLOWS and sum(map(_holds_records, value[:20])) >= 16:
            value = value[:: len(value) // MOST_FLOWS][:MOST_FLOWS]
        return [trim_document(item, depth + 1) for item in value]
    return value


def _holds_records(value: Any) -> bool:
    """Whether a record holds records of its own, as a flow holds steps."""
    if not isinstance(value, dict):
        return False
    for inner in value.values():
        entries = list(inner.values()) if isinstance(inner, dict) else inner if isinstance(inner, list) else []
        if len(entries) >= 3 and all(isinstance(entry, dict) for entry in entries):
            return True
        if isinstance(inner, dict) and _holds_records(inner):
            return True
    return False


def propose_from_documents(
    found: list[tuple[str, Any]], name: str, answers: Mapping[str, str] | None = None
) -> Proposal:
    """A proposal for the documents that are written alike; the largest such group that holds steps counts. ``answers``: words by
    the ids of questions.

    Raises ZeitbuchError when none of them holds anything like steps.
    """
    made = _propose_plainly(plain_documents(found), name, answers)
    made = _propose_in_order(found, made, name, answers)
    made = _propose_joined(found, made, name, answers)
    if made is not None:
        return made
    raise fail(
        "suggest",
        f"expected steps in {count_words(len(found), 'file')} (records with a type string that repeat), found none",
        "name files that each hold at least one whole flow, or write the dialect by hand: docs/dialects.md",
    )


def _propose_in_order(
    found: list[tuple[str, Any]], made: Proposal | None, name: str, answers: Mapping[str, str] | None
) -> Proposal | None:
    """The proposal, or one that takes the elements of XML in their order, where that finds more steps."""
    sequences = sequences_of([value for _, value in found if isinstance(value, Element)])
    if not sequences:
        return made
    words = f"elements of XML in the order in which they stand: {', '.join(sorted(sequences))}"
    in_order = _propose_as(found, Signature(all=["$"], sequences=sorted(sequences)), words, name, answers)
    return in_order if in_order is not None and (made is None or in_order.made.steps > made.made.steps) else made


def _propose_joined(
    found: list[tuple[str, Any]], made: Proposal | None, name: str, answers: Mapping[str, str] | None
) -> Proposal | None:
    """The proposal, or one that takes the documents of a file together, where some of them say nothing by themselves."""
    files = [file_holding(document) for document, _ in found]
    if len(set(files)) == len(files) or (made is not None and not made.bare):
        return made
    words = "the documents of a file belong together"
    joined = _propose_as(found, Signature(all=["$"], together=True), words, name, answers)
    return joined if joined is not None and (made is None or _holds_what_was_bare(joined, made)) else made


def _propose_as(
    found: list[tuple[str, Any]], seen: Signature, words: str, name: str, answers: Mapping[str, str] | None
) -> Proposal | None:
    """A proposal for documents that are ``seen`` in another way, of which a line says so; None where nothing is, or holds, anything else."""
    documents = plain_documents(found, seen)
    if documents == plain_documents(found):
        return None
    made = _propose_plainly(documents, name, answers)
    if made is None:
        return None
    signature = structs.replace(made.made.dialect.signature, sequences=seen.sequences, together=seen.together)
    dialect = structs.replace(made.made.dialect, signature=signature)
    claims = (Claim("shape", "", words, {}), *made.made.claims)
    return made._replace(made=made.made._replace(dialect=dialect, claims=claims))


def _holds_what_was_bare(together: Proposal, apart: Proposal) -> bool:
    """Whether documents in which nothing like steps is stand in the files of others, and say more of their flows."""
    mixed = {file_holding(file) for file in apart.used} & {file_holding(file) for file in apart.bare}
    return bool(mixed) and together.made.steps >= apart.made.steps


def _propose_plainly(found: list[tuple[str, Any]], name: str, answers: Mapping[str, str] | None) -> Proposal | None:
    """A proposal for documents as plain values; None where none of them holds anything like steps."""
    groups = group_alike([document for _, document in found])
    for paired in paired_files(found, groups):
        together = _propose_together(found, paired, name, answers)
        if together is not None:
            return together
    tried = (
        (group, _propose_for([found[index][1] for index in group], name, answers)) for group in groups[:MOST_GROUPS]
    )
    made = [(group, suggestion) for group, suggestion in tried if suggestion is not None]
    if not made:
        return None
    chosen, suggestion = max(made, key=lambda entry: (len(entry[0]), entry[1].steps))
    return _with_others(found, suggestion, chosen, {index for group, _ in made for index in group})


def _propose_together(
    found: list[tuple[str, Any]], paired: Paired, name: str, answers: Mapping[str, str] | None
) -> Proposal | None:
    """A proposal for files with what stands beside them; None where the steps of the one are not linked by the other."""
    made = _propose_for(list(paired.documents.values()), name, answers)
    into = f"$.{paired.rule.into}"
    if made is None or made.dialect.step.at.startswith(into) or made.dialect.flow.at.startswith(into):
        return None
    if not any(
        into in str(part)
        for part in (made.dialect.links, made.dialect.adjacencies, made.dialect.catalogue, made.dialect.trigger)
    ):
        return None
    mains = list(paired.mains.values())
    queries = [text for text in made.dialect.signature.all if all(Query(text).selects_any(value) for value in mains)]
    dialect = structs.replace(
        made.dialect, signature=structs.replace(made.dialect.signature, all=queries or ["$"]), beside=[paired.rule]
    )
    claim = Claim("shape", "", f"what stands in {paired.rule.file} belongs to {paired.rule.main}", {})
    made = made._replace(dialect=dialect, claims=(claim, *made.claims))
    used, rest = set(paired.numbers), set(range(len(found))) - set(paired.numbers)
    files = [[found[index][0] for index in sorted(part)] for part in (used, rest)]
    made = made._replace(dialect=_with_suffixes(made.dialect, files[0]))
    return Proposal(
        made, files[0], [], files[1], [(found[index][0], value) for index, value in paired.documents.items()]
    )


def _with_others(found: list[tuple[str, Any]], made: Suggestion, chosen: list[int], stepped: set[int]) -> Proposal:
    """The proposal for the documents ``chosen``, with all others: written alike after all, with steps of another kind (``stepped``),
    without any."""
    fits = Recogniser(made.dialect).fits_document
    alike = {index for index, (_, document) in enumerate(found) if fits(document)} or set(chosen)
    others = stepped - alike - set(chosen)
    parts = [sorted(part) for part in (alike, others, set(range(len(found))) - alike - others)]
    used, other, bare = [[found[index][0] for index in part] for part in parts]
    made = made._replace(dialect=_with_suffixes(made.dialect, used))
    return Proposal(made, used, other, bare, [found[index] for index in parts[0]])


def _propose_for(documents: list[Any], name: str, answers: Mapping[str, str] | None) -> Suggestion | None:
    """A proposal for documents that are written alike; None when nothing in them looks like steps."""
    sample = documents[:: max(1, len(documents) // MOST_DOCUMENTS)][:MOST_DOCUMENTS]
    return suggest_dialect([trim_document(document) for document in sample], name, answers)


def _with_suffixes(dialect: Dialect, files: list[str]) -> Dialect:
    """The dialect with the suffixes of files that are looked into only where a dialect asks for it."""
    named = {file.partition("!")[2] or file for file in files} | {file.partition("!")[0] for file in files}
    suffixes = [suffix for suffix in OTHER_SUFFIXES if any(name.lower().endswith(suffix) for name in named)]
    if not suffixes:
        return dialect
    return structs.replace(dialect, signature=structs.replace(dialect.signature, suffixes=suffixes))


def default_name(sources: list[str]) -> str:
    """A name for a dialect: that of the folder or file."""
    path = PurePath(sources[0])
    stem = path.name.split(".")[0] if path.name not in ("", ".", "..", "-") else "builder"
    return "".join(letter if letter.isalnum() or letter in "-_" else "-" for letter in stem) or "builder"


def closest_kinds(operation: str) -> tuple[str, ...]:
    """The kinds that the words of an operation hint at, the closest first."""
    return tuple(
        dict.fromkeys(
            f"trigger {guess.trigger}" if guess.trigger is not None else str(guess.kind)
            for guess in guess_kinds(operation)[:3]
        )
    )

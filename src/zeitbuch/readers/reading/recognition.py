# What a document is: the native form, a standard, an active dialect, a plug-in's format, or nothing known. Each gives its
# flows in the same form, so that the stages behind need not know which it was.
"""Recognising documents."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.dialects.query import Query
from zeitbuch.readers.input.text_heads import TextKind, kind_of_head
from zeitbuch.readers.input.xml_tree import Element
from zeitbuch.readers.standards import native

from . import formats
from .beside import FilesBeside, Load
from .documents import Document, Opening
from .forms import name_form
from .other_kinds import kind_of, other_kind_problem
from .plugins import flows_of_plugin, recognising_format, unusable_plugins, usable_formats
from .unrecognised import unrecognised_problem

FlowsRead = Iterator[tuple[Flow | None, list[Problem]]]
_BROKEN = (KeyError, TypeError, ValueError, AttributeError, IndexError, RecursionError)


class Recognition:
    """The forms that documents may have, asked in turn."""

    def __init__(self, dialects: Iterable[DialectReader], opening: Opening, load: Load) -> None:
        self.dialects = list(dialects)
        self.beside = FilesBeside(self.dialects, opening, load)
        self.beyond_cache = False  # whether what was read depends on plug-ins, whose own state no cache knows
        self.together = any(reader.dialect.signature.together for reader in self.dialects)
        self._last: list[DialectReader] = []

    def flows_of(self, document: Document) -> FlowsRead:
        """(flow or None, problems) of a document, whatever it is."""
        value, origin, count = document.value, document.origin, document.counted
        if native.is_native(value) and type(value[native.ROOT]) is not str:
            return _flows_of_native(value, origin)
        standard = formats.recognising_standard(value)
        if standard is not None:
            known = formats.flows_of(standard, value, origin, count)
            return _or_no_flow(_flows_of_standard(known, origin), _no_process(origin))
        if isinstance(value, Element) and self.dialects:
            reader, value = self._reader_of_xml(value)
        else:
            reader = self._reader_for(value, document.joined)
        if reader is not None and reader.dialect.beside:
            self.beyond_cache = True
            try:
                value, count, problems = self.beside.put_into(reader, document._replace(value=value))
            except ZeitbuchError as error:
                return iter([(None, [error.problem])])
            return _after(problems, _or_no_flow(reader.flows(value, origin, count), _no_flow(reader, origin)))
        if reader is not None:
            return _or_no_flow(reader.flows(value, origin, count), _no_flow(reader, origin))
        return self._flows_of_plugin(document)

    def own_texts(self, document: Document) -> set[str]:
        """The places of texts that the dialect of a document reads as parts of its flows."""
        value = document.value
        reader = self._reader_for(value, document.joined) if any(one.dialect.text for one in self.dialects) else None
        rules = reader.dialect.text if reader is not None else []
        return {pointer for rule in rules for pointer, _ in Query(rule.at).find_all(value)}

    def knows_together(self, value: Any) -> bool:
        """Whether a dialect that reads the documents of a file together knows them."""
        return self._reader_for(value, joined=True) is not None

    def knows(self, value: Any) -> bool:
        """Whether a value has one of the forms."""
        if any(reader.recogniser.fits_document(value) for reader in self.dialects):
            return True
        self.beyond_cache |= bool(usable_formats())
        return bool(name_form(value))

    def bare_reader(self, value: Any) -> DialectReader | None:
        """The dialect of which a value is one flow without what stands around flows."""
        return next((reader for reader in self.dialects if reader.holds_bare_flow(value)), None)

    def _reader_for(self, value: Any, joined: bool = False) -> DialectReader | None:
        # Neighbouring files are mostly of one dialect: the last one that fitted is asked first.
        for reader in (*self._last, *self.dialects):
            if reader.dialect.signature.together is joined and reader.recogniser.fits_document(value):
                self._last = [reader]
                return reader
        return None

    def _reader_of_xml(self, root: Element) -> tuple[DialectReader | None, Any]:
        """The dialect of an XML document, and the document as that sees it; as most see it where it is of none."""
        from zeitbuch.readers.input.plain_xml import plain_document

        seen: dict[frozenset[str], Any] = {frozenset(): plain_document(root)}
        for reader in (*self._last, *self.dialects):
            sequences = frozenset(reader.dialect.signature.sequences)
            if sequences not in seen:
                seen[sequences] = plain_document(root, sequences)
            if reader.recogniser.fits_document(seen[sequences]):
                self._last = [reader]
                return reader, seen[sequences]
        return None, seen[frozenset()]

    def _flows_of_plugin(self, document: Document) -> FlowsRead:
        """The flows of a document that nothing here recognises, where a plug-in does."""
        plugin, problems = recognising_format(document.value)
        yield None, [*problems, *unusable_plugins()]
        self.beyond_cache |= bool(usable_formats())
        kind = kind_of(document.value) or _kind_of_text(document) if plugin is None else None
        if kind is not None:
            yield None, [other_kind_problem(kind.words, kind.hint, document.origin)]
        elif plugin is None and (main := self.beside.main_of(document.origin)) is not None:
            self.beyond_cache = True
            message = "expected a flow definition, found a part of other files"
            yield None, [Problem("beside-part", "info", message, document.origin, f"it is read with {main.file}")]
        elif plugin is None:
            yield None, [unrecognised_problem(document.value, document.origin, self.dialects)]
        else:
            yield from flows_of_plugin(plugin, document.value, document.origin, document.counted)


def _after(problems: list[Problem], flows: FlowsRead) -> FlowsRead:
    yield None, problems
    yield from flows


def _kind_of_text(document: Document) -> TextKind | None:
    """What a table or a file of settings is that no dialect reads."""
    return kind_of_head(document.origin.source, document.raw) if document.origin.member is None else None


def _flows_of_native(value: Any, origin: Origin) -> FlowsRead:
    for found in native.flows(value, origin):
        yield (None, [found]) if isinstance(found, Problem) else (found, [])


def _flows_of_standard(known: formats.Flows, origin: Origin) -> FlowsRead:
    try:
        yield from known
    except _BROKEN as error:
        # A file that says it is of a standard and breaks its rules where no reader looked for it.
        words = f"{type(error).__name__}: {str(error)[:120]}"
        message = f"expected a file that keeps to its standard, found a part of another form ({words})"
        hint = "check the file with the standard's schema; what was read before that part is kept"
        yield None, [Problem("malformed", "error", message, origin, hint)]


def _or_no_flow(flows: FlowsRead, problem: Problem) -> FlowsRead:
    """The flows, and a problem when there is nothing else."""
    nothing = True
    for flow, problems in flows:
        nothing = nothing and flow is None and not problems
        yield flow, problems
    if nothing:
        yield None, [problem]


def _no_process(origin: Origin) -> Problem:
    message = "expected a process, workflow or agent in the file, found none"
    return Problem("no-flow", "error", message, origin, "the file may hold only definitions that others use")


def _no_flow(reader: DialectReader, origin: Origin) -> Problem:
    message = f"expected a flow at {reader.flows_at.text} (dialect '{reader.dialect.name}'), found none"
    return Problem("no-flow", "error", message, origin, "the export may be of another kind of object")

# The one way from sources to flows: bytes, decoding, recognition, reading, mending. Flows are handed out one by
# one, so that a command that only needs rows never holds the whole estate.
"""Reading of estates: sources in, flows and problems out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from msgspec import structs

from zeitbuch.core.model.model_map import ModelRule, apply_model_map
from zeitbuch.core.model.problems import Problem, ZeitbuchError, place_within
from zeitbuch.core.model.records import Estate, Flow, Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.dialects.rules import Dialect
from zeitbuch.readers.input.decode import decode_document
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.packages import is_package, package_members
from zeitbuch.readers.input.secrets import OPENINGS, masked_flow, masked_once
from zeitbuch.readers.input.sources import STDIN, Held, Input, list_files, load_input, name_of
from zeitbuch.readers.input.xml_tree import Element
from zeitbuch.readers.standards import native

from . import formats
from .embedded import Embedded, find_embedded, might_embed
from .plugins import flows_of_plugin, recognising_format, unusable_plugins, usable_formats
from .tally import Fact, Package, Tally
from .validated import validate_flow


class Reader(Tally):
    """Reads flows from sources. After the iteration ``problems`` holds what was wrong, in order.

    With ``outline`` the flows lack what a list of flows does not show: inputs, references, positions, origins; without
    ``texts`` prompts and notes too.
    """

    def __init__(
        self,
        dialects: Iterable[Dialect] = (),
        limits: Limits | None = None,
        outline: bool = False,
        models: Sequence[ModelRule] = (),
        texts: bool = True,
    ) -> None:
        super().__init__()
        self.models = models
        self.unmasked = outline  # an outline keeps little: that little is masked, not the whole document
        self.limits = limits or Limits()
        dialects = list(dialects)
        self.dialects = [DialectReader(dialect, outline, texts) for dialect in dialects]
        self.openings = (
            *OPENINGS,
            *[dialect.placeholders.open for dialect in dialects if dialect.placeholders is not None],
        )
        self._last: list[DialectReader] = []
        self.beyond_cache = False  # whether what was read depends on plug-ins, whose own state no cache knows

    def read_sources(self, sources: Iterable[str]) -> Iterator[Flow]:
        """All flows of the sources."""
        yield from self.flows_of(list_files(sources))
        self.finish_reading()

    def flows_of(self, inputs: Iterable[Input], known: Callable[[bytes], bool] | None = None) -> Iterator[Flow]:
        """All flows of inputs already listed; ``finish`` is the caller's. Content that is ``known`` is passed over."""
        for one in inputs:
            if isinstance(one, Problem):
                self.problems.append(one)
                continue
            name = name_of(one)
            item = load_input(one, self.limits)
            if isinstance(item.data, Problem):
                self.problems.append(item.data)
            elif known is not None and item.data is not None and known(item.data):
                continue
            elif item.data is not None and is_package(name):
                yield from self._read_package(name, item.data)
            elif item.data is not None:
                if name == STDIN or isinstance(one, Held):
                    self.kept[item.name] = item.data
                yield from self._read_file(Origin(item.name), item.data)

    def _read_file(self, base: Origin, data: bytes) -> Iterator[Flow]:
        for raw in self._read_bytes(base, data):
            flow, problems = validate_flow(masked_flow(raw) if self.unmasked else raw)
            self.problems += problems
            if self.models:
                flow = apply_model_map(self.models, flow)
            calls = tuple([step.calls for step in flow.steps if step.calls is not None])
            self.facts.append(Fact(flow.id, flow.title, flow.origin, bool(flow.triggers), calls))
            yield flow

    def _read_package(self, name: str, data: bytes) -> Iterator[Flow]:
        """The flows of a package. A member in no known form is one of the package's other objects, no fault."""
        flows = holding = others = unreadable = 0
        for item in package_members(name, data, self.limits):
            if item.data is None:
                others += 1
                continue
            if isinstance(item.data, Problem):
                self.problems.append(item.data)
                unreadable += 1
                continue
            before, problems = flows, len(self.problems)
            for flow in self._read_file(Origin(name, member=item.member), item.data):
                flows += 1
                yield flow
            if flows > before:
                holding += 1
                continue
            fresh = self.problems[problems:]
            if fresh and all(problem.code in ("unrecognised", "no-flow") for problem in fresh):
                del self.problems[problems:]
                others += 1
            else:
                unreadable += 1
        self.packages.append(Package(name, flows, holding, others, unreadable))
        if not flows:
            self.problems.append(
                Problem(
                    "package-empty",
                    "error",
                    f"expected flows in the package, found none in {others + unreadable} members",
                    Origin(name),
                    f"a dialect for this builder may be missing; to have one proposed: zeitbuch dialect suggest {name}",
                )
            )

    def _read_bytes(self, base: Origin, data: bytes, depth: int = 0) -> Iterator[Flow]:
        try:
            name = base.member or base.source
            document, count = decode_document(name, data, self.limits, self.openings, self.unmasked)
            inner = self._read_inner(base, data, depth, name, document)
            for flow in self._flows_in(document, base, count):
                yield call_embedded(flow, inner) if inner else flow
            for _, flows in inner:
                self.called.update(masked_once(flow.id) if self.unmasked else flow.id for flow in flows)
                yield from flows
        except ZeitbuchError as error:
            self.problems.append(place_within(error.problem, base))

    def _read_inner(
        self, base: Origin, data: bytes, depth: int, name: str, document: Any
    ) -> list[tuple[str, list[Flow]]]:
        inner: list[tuple[str, list[Flow]]] = []
        if depth < self.limits.nesting and might_embed(data, yaml=name.endswith((".yaml", ".yml"))):
            for one in find_embedded(document):
                flows = list(self._read_embedded(one, base, depth))
                if flows:
                    inner.append((one.pointer, flows))
        return inner

    def _read_embedded(self, one: Embedded, base: Origin, depth: int) -> Iterator[Flow]:
        """The flows of a definition that stands as text inside another. A text that is no flow is no fault."""
        known = is_known(one.value, self.dialects)
        bare = (
            next(
                (dialect_reader for dialect_reader in self.dialects if dialect_reader.holds_bare_flow(one.value)), None
            )
            if not known
            else None
        )
        if not known and bare is None:
            return
        place = base.at(one.pointer)
        if known:
            for flow in self._read_bytes(Origin(base.source, member=base.member), one.raw, depth + 1):
                inside = flow.origin.pointer if flow.origin is not None else ""
                yield structs.replace(flow, origin=place.at(f"{one.pointer}{inside}"))
            return
        assert bare is not None
        document, count = decode_document("embedded.json", one.raw, self.limits, self.openings, self.unmasked)
        flow, problems = bare.read_bare_flow(document, place, count)
        self.problems += problems
        yield flow

    def _flows_in(self, document: Any, base: Origin, count: int) -> Iterator[Flow]:
        if native.is_native(document):
            for found in native.flows(document, base):
                if isinstance(found, Problem):
                    self.problems.append(found)
                else:
                    yield found
            return
        known = formats.flows_of(document, base, count)
        reader = self._reader_for(document) if known is None else None
        if known is not None:
            yield from self._of_format(known, base)
            return
        if reader is None:
            yield from self._by_plugin(document, base, count)
            return
        any_flow = False
        for flow, problems in reader.flows(document, base, count):
            any_flow = True
            self.problems += problems
            yield flow
        if not any_flow:
            self.problems.append(
                Problem(
                    "no-flow",
                    "error",
                    f"expected a flow at {reader.flows_at.text} (dialect '{reader.dialect.name}'), found none",
                    base,
                    "the export may be of another kind of object",
                )
            )

    def _of_format(self, known: formats.Flows, base: Origin) -> Iterator[Flow]:
        any_flow = False
        try:
            for flow, problems in known:
                any_flow = True
                self.problems += problems
                yield flow
        except (KeyError, TypeError, ValueError, AttributeError, IndexError, RecursionError) as error:
            # A file that says it is of a standard and breaks its rules where no reader looked for it.
            self.problems.append(
                Problem(
                    "malformed",
                    "error",
                    f"expected a file that keeps to its standard, found a part of another form ({type(error).__name__}: {str(error)[:120]})",
                    base,
                    "check the file with the standard's schema; what was read before that part is kept",
                )
            )
            return
        if not any_flow:
            self.problems.append(
                Problem(
                    "no-flow",
                    "error",
                    "expected a process, workflow or agent in the file, found none",
                    base,
                    "the file may hold only definitions that others use",
                )
            )

    def _by_plugin(self, document: Any, base: Origin, count: int) -> Iterator[Flow]:
        """The flows of a document that nothing here recognises, where a plug-in does."""
        plugin, problems = recognising_format(document)
        self.problems += problems
        self.problems += unusable_plugins()
        self.beyond_cache |= bool(usable_formats())
        if plugin is None:
            self.problems.append(self._unrecognised_problem(document, base))
            return
        for flow, problems in flows_of_plugin(plugin, document, base, count):
            self.problems += problems
            if flow is not None:
                yield flow

    def _reader_for(self, document: Any) -> DialectReader | None:
        # Neighbouring files are mostly of one dialect: the last one that fitted is asked first.
        for reader in (*self._last, *self.dialects):
            if reader.recogniser.fits_document(document):
                self._last = [reader]
                return reader
        return None

    def _unrecognised_problem(self, document: Any, base: Origin) -> Problem:
        if isinstance(document, Element):
            found = f"XML with the root <{document.tag}>"
        elif not isinstance(document, dict | list):
            found = f"a single {type(document).__name__}"
        elif isinstance(document, dict):
            keys = ", ".join(f"'{key}'" for key in list(document)[:6])
            found = f"an object with the keys {keys}" if keys else "an empty object"
        else:
            found = f"a list of {len(document)} values"
        if not self.dialects:
            hint = (
                "no dialect is active: name one with --dialect FILE or under `dialects` in zeitbuch.toml, "
                f"or have one proposed: zeitbuch dialect suggest {base.source}"
            )
        else:
            if isinstance(document, Element):
                document = {}
            missing = [
                (len(items), index, dialect_reader, items)
                for index, dialect_reader in enumerate(self.dialects)
                if (items := dialect_reader.recogniser.missing_signs(document))
            ]
            _, _, nearest, lacks = min(missing, key=lambda x: x[:2])
            hint = (
                f"closest is dialect '{nearest.dialect.name}', which also expects {' and '.join(lacks)}; "
                f"to have one proposed: zeitbuch dialect suggest {base.source}"
            )
        return Problem(
            "unrecognised",
            "error",
            f"expected a flow definition in the native form or an active dialect, found {found}",
            base,
            hint,
        )


def read_estate(reader: Reader, sources: Iterable[str]) -> Estate:
    """All flows of the sources at once."""
    return Estate(flows=tuple(reader.read_sources(sources)))


def is_known(document: Any, dialects: Iterable[DialectReader]) -> bool:
    """Whether a document is in the native form, a standard's form or an active dialect."""
    if native.is_native(document) or formats.flows_of(document, Origin(""), 0) is not None:
        return True
    return any(dialect_reader.recogniser.fits_document(document) for dialect_reader in dialects)


def call_embedded(flow: Flow, inner: list[tuple[str, list[Flow]]]) -> Flow:
    """The flow with its steps calling the definitions that stand inside them."""
    steps = []
    for step in flow.steps:
        place = step.origin.pointer if step.origin is not None else None
        held = next((items for pointer, items in inner if place is not None and pointer.startswith(place + "/")), None)
        if held and (step.calls is None or step.calls.lstrip()[:1] in ("{", "[")):
            step = structs.replace(step, calls=held[0].id)
        steps.append(step)
    return structs.replace(flow, steps=tuple(steps))

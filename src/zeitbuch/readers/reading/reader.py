# The one way from sources to flows, in stages: bytes (input), documents (decoded, masked), recognised, flows, validated.
# Flows are handed out one by one, so that a command that only needs rows never holds the whole estate.
"""Reading of estates: sources in, flows and problems out."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence

from msgspec import structs

from zeitbuch.core.model.model_map import ModelRule, apply_model_map
from zeitbuch.core.model.problems import Problem, ZeitbuchError, place_within
from zeitbuch.core.model.records import Estate, Finding, Flow, Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.dialects.rules import Dialect, suffixes_of
from zeitbuch.readers.input.decode import decode_bytes
from zeitbuch.readers.input.file_documents import documents_of
from zeitbuch.readers.input.joined_documents import may_hold_several
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.sources import STDIN, Held, Input, is_package, list_files, load_input, name_of
from zeitbuch.readers.secrets.labels import plain_problem
from zeitbuch.readers.secrets.masker import Masker
from zeitbuch.readers.secrets.outlines import mask_outline
from zeitbuch.readers.secrets.values import OPENINGS
from zeitbuch.readers.secrets.words import SecretWords

from .documents import Document, Opening, embedded_in
from .embedded import Embedded, Inside, call_embedded
from .other_kinds import is_row_of, kind_of_bytes, kind_of_lines, other_kind_problem
from .recognition import FlowsRead, Recognition
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
        secrets: SecretWords | None = None,
        digest_key: bytes = b"",
    ) -> None:
        super().__init__()
        self.models = models
        self.unmasked = outline  # an outline keeps little: that little is masked, not the whole document
        self.limits = limits or Limits()
        dialects = list(dialects)
        openings = [dialect.placeholders.open for dialect in dialects if dialect.placeholders is not None]
        self.masker = Masker(secrets, (*OPENINGS, *openings), digest_key)
        self.opening = Opening(self.limits, self.masker, self.unmasked)
        self.also = suffixes_of(dialects)
        self.recognition = Recognition(
            [DialectReader(dialect, outline, texts, self.limits) for dialect in dialects],
            self.opening,
            self._load_beside,
        )
        # For files that belong to others: members of the package that is being read, and inputs whose bytes are at hand.
        self._members: dict[str, bytes | Problem] = {}
        self._held: dict[str, Held] = {}

    def hold_inputs(self, inputs: Iterable[Input]) -> None:
        """Inputs among which files that belong to others are looked up, where a dialect says that there are such."""
        if self.recognition.beside.rules:
            self._held |= {one.name: one for one in inputs if isinstance(one, Held)}

    def read_sources(self, sources: Iterable[str]) -> Iterator[Flow]:
        """All flows of the sources."""
        yield from self.flows_of(list_files(sources, self.also))
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
                    self.kept[item.name] = one if isinstance(one, Held) else Held(item.name, item.data)
                yield from self._read_file(Origin(item.name), item.data)

    def _read_file(self, base: Origin, data: bytes) -> Iterator[Flow]:
        told, begin = len(self.problems), len(self.problems)
        self.masker.marks.made = 0
        for raw in self._flows_of_bytes(base, data):
            try:
                flow, problems = validate_flow(mask_outline(raw, self.masker) if self.unmasked else raw, self.limits)
            except ZeitbuchError as error:
                self.problems.append(place_within(error.problem, raw.origin or base))
                continue
            self.problems += problems
            flow = _with_findings(flow, self.problems[told:])
            if self.masker.marks.made:
                flow = self.masker.marks.label_flow(flow)
                self.problems[told:] = [plain_problem(problem) for problem in self.problems[told:]]
            told = len(self.problems)
            if self.models:
                flow = apply_model_map(self.models, flow)
            calls = tuple([step.calls for step in flow.steps if step.calls is not None])
            self.facts.append(Fact(flow.id, flow.title, flow.origin, bool(flow.triggers), calls))
            yield flow
        if self.masker.marks.made:
            self.problems[begin:] = [plain_problem(problem) for problem in self.problems[begin:]]

    def _flows_of_bytes(self, base: Origin, data: bytes) -> Iterator[Flow]:
        """The flows of a file, document by document."""
        name = base.member or base.source
        kind = kind_of_lines(name, data)
        if kind is not None and (
            is_row_of(kind) or not (name.lower().endswith(self.also) or self._begins_with_flow(data))
        ):
            self.problems.append(other_kind_problem(kind.words, kind.hint, base))
            return
        if self.recognition.together and may_hold_several(name):
            whole = self._together(base, data)
            if whole is not None:
                yield from whole
                return
        for place, part in documents_of(base, data):
            yield from self._flows_of_part(place, part)

    def _together(self, base: Origin, data: bytes) -> Iterator[Flow] | None:
        """The flows of the documents of a file together; None where no dialect that reads them so knows it."""
        try:
            document = self.opening.open_together(base, documents_of(base, data), data)
        except ZeitbuchError as error:
            self.problems.append(place_within(error.problem, base))
            return iter(())
        if not self.recognition.knows_together(document.value):
            return None
        self.problems += document.problems
        unread = [problem for problem in document.problems if problem.severity == "error"]
        # Of a file without one of its rows the flows would be others.
        return iter(()) if unread else self._flows_of_document(document)

    def _flows_of_part(self, base: Origin, data: bytes) -> Iterator[Flow]:
        try:
            document = self.opening.open_file(base, data)
            self.problems += document.problems
            yield from self._flows_of_document(document)
        except ZeitbuchError as error:
            other = kind_of_bytes(base.member or base.source, data)
            problem = error.problem if other is None else other_kind_problem(*other, base)
            self.problems.append(place_within(problem, base))

    def _flows_of_document(self, document: Document, depth: int = 0) -> Iterator[Flow]:
        """The flows of a document, then those that stand as text inside it, called by the steps that hold them."""
        inner: list[Inside] = []
        within = embedded_in(document) if depth < self.limits.nesting else []
        own = self.recognition.own_texts(document) if within else set()
        for one in within:
            if one.pointer in own:
                continue
            flows = list(self._flows_of_embedded(one, document, depth + 1))
            if flows:
                inner.append(Inside(one.pointer, one.raw.decode(), flows))
        for flow in self._tell_problems(self.recognition.flows_of(document)):
            yield call_embedded(flow, inner) if inner else flow
        for inside in inner:
            self.called.update(self.masker.mask_text(flow.id) if self.unmasked else flow.id for flow in inside.flows)
            yield from inside.flows

    def _flows_of_embedded(self, one: Embedded, outer: Document, depth: int) -> Iterator[Flow]:
        """The flows of a definition that stands as text inside another. A text that is no flow is no fault."""
        place = outer.origin.at(one.pointer)
        if self.recognition.knows(one.value):
            document = self.opening.open_embedded(one, Origin(outer.origin.source, member=outer.origin.member))
            for flow in self._flows_of_document(document, depth):
                inside = flow.origin.pointer if flow.origin is not None else ""
                yield structs.replace(flow, origin=place.at(f"{one.pointer}{inside}"))
            return
        bare = self.recognition.bare_reader(one.value)
        if bare is not None:
            document = self.opening.open_embedded(one, place)
            yield from self._tell_problems(iter([bare.read_bare_flow(document.value, place, document.counted)]))

    def _begins_with_flow(self, data: bytes) -> bool:
        """Whether the first line of JSON Lines has a form that is known."""
        try:
            first = decode_bytes("line.json", data.lstrip().split(b"\n", 1)[0], self.limits)
        except ZeitbuchError:
            return False
        return self.recognition.knows(first.value)

    def _load_beside(self, place: Origin) -> bytes | Problem | None:
        """A file or member that may not be there."""
        if place.member is not None:
            return self._members.get(place.member)
        if place.source in self._held:
            return self._held[place.source].data
        return load_input(place.source, self.limits).data if os.path.isfile(place.source) else None  # noqa: PTH113

    def _tell_problems(self, read: FlowsRead) -> Iterator[Flow]:
        for flow, problems in read:
            self.problems += problems
            if flow is not None:
                yield flow

    def _read_package(self, name: str, data: bytes) -> Iterator[Flow]:
        """The flows of a package. A member in no known form is one of the package's other objects, no fault."""
        from zeitbuch.readers.input.packages import (
            package_members,  # most files are none, and archives take long to load
        )

        flows = holding = others = unreadable = 0
        if self.recognition.beside.rules:
            listed = package_members(name, data, self.limits, self.also)
            self._members = {item.member: item.data for item in listed if item.member and item.data is not None}
        for item in package_members(name, data, self.limits, self.also):
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
            fresh = [
                problem.code
                for problem in self.problems[problems:]
                if problem.severity == "error" or problem.code in ("other-kind", "beside-part")
            ]
            if fresh and set(fresh) <= {"unrecognised", "no-flow", "other-kind", "beside-part"}:
                del self.problems[problems:]
                others += 1
            else:
                unreadable += 1
        self._members = {}
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


def _with_findings(flow: Flow, told: list[Problem]) -> Flow:
    """The flow with what was found odd about it since the one before it was read."""
    found = tuple(
        Finding(code=problem.code, message=problem.message, pointer=problem.origin.pointer if problem.origin else "")
        for problem in told
        if problem.severity == "finding"
    )
    return structs.replace(flow, findings=found) if found or flow.findings else flow


def read_estate(reader: Reader, sources: Iterable[str]) -> Estate:
    """All flows of the sources at once."""
    return Estate(flows=tuple(reader.read_sources(sources)))

# Parts of BPMN elements that several readers need: names and notes, event definitions, markers. What is taken here counts as
# read; ids that only say which element is meant, and are looked up by others, carry no meaning of their own.
"""Details of BPMN elements."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Binding, Repeat
from zeitbuch.readers.input.xml_tree import Element

if TYPE_CHECKING:
    from .definitions import Definitions


def local_name(name: str) -> str:
    """A reference without its prefix."""
    return name.rpartition(":")[2].strip()


def take_name(element: Element) -> str:
    """The name of an element, line ends and runs of white space folded: tools break names as their boxes need it."""
    return " ".join(element.take("name").split())


def take_note(element: Element) -> str:
    """All documentation of an element."""
    found = []
    for note in element.children_with("documentation"):
        note.noise("id")
        note.expect("textFormat", "text/plain")
        found.append(note.take_text())
    return "\n".join(filter(None, found))


def take_child(element: Element, tag: str) -> str:
    """The text of the first child with a tag. Of an expression the id carries no meaning."""
    child = element.first_child(tag)
    if child is None:
        return ""
    child.noise("id")
    return child.take_text()


def repeat_of(marker: Element, data: dict[str, str]) -> Repeat:
    """How a marked activity is repeated."""
    marker.noise("id")
    count = take_child(marker, "loopCardinality")
    over = local_name(take_child(marker, "loopDataInputRef"))
    until = take_child(marker, "completionCondition") or take_child(marker, "loopCondition")
    cap = marker.attribute("loopMaximum")
    if cap.isdecimal():
        marker.mark("loopMaximum")
    items = data.get(over, over)
    return Repeat(
        items=items or (count if count and not count.isdecimal() else None),
        count=int(count) if count.isdecimal() and len(count) < 16 else None,
        until=until or None,
        cap=int(cap) if cap.isdecimal() and len(cap) < 16 else None,
    )


def marker_inputs(marker: Element, data: dict[str, str]) -> tuple[Binding, ...]:
    """What a marker says beside how often."""
    found = []
    if marker.tag == E.MARKERS[0]:
        found.append(Binding(name="sequential", value=marker.take("isSequential") == "true"))
    if marker.attribute("testBefore"):
        found.append(Binding(name=E.TEST_BEFORE, value=marker.take("testBefore") == "true"))
    for tag in ("inputDataItem", "outputDataItem"):
        item = marker.first_child(tag)
        if item is not None:
            item.noise("id")
            found.append(Binding(name=tag, value=take_name(item) or item.attribute("id")))
    out = local_name(take_child(marker, "loopDataOutputRef"))
    return (*found, Binding(name="loopDataOutputRef", value=data.get(out, out))) if out else tuple(found)


_REFERENCES = ("messageRef", "signalRef", "errorRef", "escalationRef", "activityRef", "operationRef")
_TEXTS = ("timeDate", "timeCycle", "timeDuration", "condition")


def definition_inputs(definition: Element, shared: Definitions) -> list[Binding]:
    """What an event definition says, as inputs; codes of errors and escalations stand beside their names."""
    definition.noise("id")
    found: list[Binding] = []
    for attribute in _REFERENCES:
        reference = definition.attribute(attribute)
        if reference:
            definition.mark(attribute)
            word = attribute.removesuffix("Ref")
            found.append(Binding(name=word, value=shared.element_named(reference)))
            found += [Binding(name=f"{word} {name}", value=value) for name, value in shared.codes_of(reference)]
    if definition.attribute("name"):
        found.append(Binding(name="name", value=take_name(definition)))
    waits = definition.attribute("waitForCompletion")
    if waits:
        found.append(Binding(name="wait for completion", value=definition.take("waitForCompletion") == "true"))
    found += [Binding(name=tag, value=text) for tag in _TEXTS if (text := take_child(definition, tag))]
    for tag in ("source", "target"):
        found += [
            Binding(name=f"link {tag}", value=local_name(child.take_text())) for child in definition.children_with(tag)
        ]
    return found


def definitions_of(event: Element, shared: Definitions) -> list[Element]:
    """The definitions of an event, its own and those of the file that it refers to."""
    found = [element for element in event.children if element.tag in E.DEFINITIONS]
    for reference in event.children_with("eventDefinitionRef"):
        held = shared.event_definitions.get(local_name(reference.text))
        if held is not None:
            reference.take_text()
            found.append(held)
        else:
            shared.tell_missing(local_name(reference.text), reference)
    return found


def short_word(definition: Element) -> str:
    """What kind of event a definition stands for."""
    return definition.tag.removesuffix("EventDefinition")


def event_word(kind: str) -> str:
    """The label of the way out at an event on the border of an activity."""
    word = kind.removesuffix("EventDefinition")
    return {"error": "on error", "timer": "on timeout", "cancel": "when cancelled"}.get(
        word, f"on {word}" if word else "on event"
    )

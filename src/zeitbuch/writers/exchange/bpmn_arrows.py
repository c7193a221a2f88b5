# Links of a flow as sequence flows and associations, notes and groups as artifacts.
"""Arrows and artifacts of BPMN, written."""

from __future__ import annotations

from typing import TYPE_CHECKING
from xml.etree import ElementTree as ET

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Link, Step, Trigger

from .bpmn_events import FORMAL
from .bpmn_names import B, clean_text

if TYPE_CHECKING:
    from .bpmn_process import ProcessWriter

# OMG formal/2011-01-03: activities and three gateways may name the arrow that is taken when no other fits.
_WITH_DEFAULT = frozenset({*E.TASKS, *E.SCOPES, "exclusiveGateway", "inclusiveGateway", "complexGateway"})
_NOTE_SAID = ("id", "origin", "position", "about")


def write_arrows(p: ProcessWriter, process: ET.Element) -> None:
    """All links that BPMN says as sequence flows."""
    for number, link in enumerate(p.flow.links, 1):
        source, target = p.steps.get(link.source), p.steps.get(link.target)
        if link.role == "attach" or _at_note(p, link):
            continue
        if target is not None and (
            p.borders.get(target.id) == link.source
            or (target.operation == E.EVENT_SUBPROCESS and source is None)
            or target.scope == link.source  # names a branch of a scope: an association
        ):
            continue
        _write_sequence(p, _container_of(p, process, link), link, number)


def _at_note(p: ProcessWriter, link: Link) -> bool:
    return p.tags.get(link.source) in E.NOTES or p.tags.get(link.target) in E.NOTES


def _container_of(p: ProcessWriter, process: ET.Element, link: Link) -> ET.Element:
    """The element in which a link stands: the innermost scope that holds both ends."""

    def scopes(key: str) -> list[str]:
        found: list[str] = []
        step = p.steps.get(key)
        while step is not None and step.scope is not None and step.scope not in found:
            found.append(step.scope)
            step = p.steps.get(step.scope)
        return found

    target = scopes(link.target)
    common = next((text for text in scopes(link.source) if text in target and text in p.elements), None)
    return p.elements[common] if common is not None else process


def _write_sequence(p: ProcessWriter, parent: ET.Element, link: Link, number: int) -> None:
    edge = p.element_id(f"{number}", f"flow{p.number}_")
    made = ET.SubElement(
        parent,
        B + "sequenceFlow",
        {"id": edge, "sourceRef": p.element_id(link.source), "targetRef": p.element_id(link.target)},
    )
    if link.label:
        made.set("name", clean_text(link.label))
    if link.note:
        ET.SubElement(made, B + "documentation").text = clean_text(link.note)
    if link.otherwise and p.tags.get(link.source) in _WITH_DEFAULT:
        p.elements[link.source].set("default", edge)
    p.write_record(made, link, E.LINK_SAID)
    if link.condition:
        ET.SubElement(made, B + "conditionExpression", FORMAL).text = clean_text(link.condition)
    p.edges.append((edge, link.source, link.target))


def write_entries(p: ProcessWriter, parent: ET.Element, trigger: Trigger, scope: str) -> None:
    """The way from the start into an event sub-process: to the steps that nothing else leads to."""
    for number, step in enumerate(step for step in p.inside.get(scope, ()) if step.id not in p.reached):
        edge = p.element_id(f"{trigger.id}.{number}", "entry_")
        ET.SubElement(
            parent,
            B + "sequenceFlow",
            {"id": edge, "sourceRef": p.element_id(trigger.id), "targetRef": p.element_id(step.id)},
        )
        p.edges.append((edge, trigger.id, step.id))


def write_artifacts(p: ProcessWriter, process: ET.Element) -> None:
    """Notes, groups, and links that are no sequence: helpers of an agent, names of branches."""
    notes = [step for step in p.flow.steps if p.tags.get(step.id) in E.NOTES]
    for step in notes:
        _write_note(p, process, step)
    for number, link in enumerate(p.flow.links, 1):
        target = p.steps.get(link.target)
        inward = target is not None and target.scope == link.source
        if link.role == "attach" or _at_note(p, link) or inward:
            made = _tie(p, process, f"{number}", link.source, link.target)
            p.write_record(made, link, E.LINK_SAID)
    for step in notes:
        for place, end in enumerate(step.about):
            _tie(p, process, f"{step.id}.{place}", end, step.id)


def _write_note(p: ProcessWriter, process: ET.Element, step: Step) -> None:
    made = ET.SubElement(process, B + p.tags[step.id], {"id": p.element_id(step.id)})
    p.elements[step.id] = made
    p.write_record(made, step, _NOTE_SAID, {"id": step.id})
    text = step.note or step.name
    if p.tags[step.id] == "group":
        made.set("categoryValueRef", p.shared.category_value(text))
    else:
        ET.SubElement(made, B + "text").text = clean_text(text)


def _tie(p: ProcessWriter, process: ET.Element, name: str, source: str, target: str) -> ET.Element:
    key = p.element_id(name, f"tie{p.number}_")
    ends = {"id": key, "sourceRef": p.element_id(source), "targetRef": p.element_id(target)}
    if source in p.elements or source in p.wrapped:
        p.edges.append((key, source, target))
    return ET.SubElement(process, B + "association", ends)

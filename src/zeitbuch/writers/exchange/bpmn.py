# Flows as BPMN 2.0 XML with a diagram, valid against the OMG schema. What BPMN has no place for (effects, retries, helpers of an
# agent) goes into extension elements of our own namespace, so that reading it back gives the same flow.
"""Writing BPMN 2.0 (OMG formal/2011-01-03)."""

from __future__ import annotations

from xml.etree import ElementTree as ET

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Estate
from zeitbuch.writers.theme.terminal import TextLook

from .bpmn_collaboration import Collaboration
from .bpmn_diagram import write_diagrams
from .bpmn_names import DC, DI, B
from .bpmn_parts import named_words
from .bpmn_process import ProcessWriter
from .bpmn_shared import SharedElements


def to_bpmn(estate: Estate) -> str:
    """All flows as one file: what they share, pools and messages between them, a process each, the diagrams."""
    for prefix, space in (
        ("bpmn", E.MODEL_SPACE),
        ("bpmndi", E.DIAGRAM_SPACE),
        ("dc", DC[1:-1]),
        ("di", DI[1:-1]),
        ("zb", E.OWN_SPACE),
    ):
        ET.register_namespace(prefix, space)
    root = ET.Element(B + "definitions", {"id": "definitions", "targetNamespace": E.OWN_SPACE, "exporter": "zeitbuch"})
    shared = SharedElements(root)
    writers = [ProcessWriter(flow, number, shared) for number, flow in enumerate(estate.flows, 1)]
    processes = [writer.write_process() for writer in writers]
    collaboration = Collaboration(root, writers, shared)
    root.extend(processes)
    names = {
        key: words
        for element in root.iter()
        if (key := element.get("id")) and (words := named_words(element)) is not None
    }
    for writer in writers:
        writer.write_hashes(names)
    root.extend(list(write_diagrams(writers, collaboration)))  # of what is raised within `extend` nothing is told
    ET.indent(root, " ")
    text = ET.tostring(root, encoding="unicode", short_empty_elements=True)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + text + "\n"


def write_bpmn(estate: Estate, look: TextLook) -> str:
    """Flows as BPMN."""
    return to_bpmn(estate)

# Small parts of writing BPMN that need nothing but their element.
"""Parts of BPMN elements, written."""

from __future__ import annotations

from xml.etree import ElementTree as ET
from xml.etree.ElementTree import Element

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_facts import Said
from zeitbuch.core.model.records import Flow, Step

from .bpmn_names import B, clean_text


def is_executable(flow: Flow) -> str:
    """Whether an engine may run the process, as the export said; "false" where it did not."""
    said = next((variable.value for variable in flow.variables if variable.name == "isExecutable"), "false")
    return "true" if said in (True, "true") else "false"


def said_by(element: ET.Element) -> Said:
    """What an element says, without its namespaces."""
    attributes = {key: value for key, value in element.attrib.items() if not key.startswith("{")}
    children = tuple(said_by(child) for child in element if child.tag.rpartition("}")[2] not in E.NODES)
    return Said(element.tag.rpartition("}")[2], attributes, element.text or "", children)


def write_script(element: Element[str], step: Step) -> None:
    """The script of a task."""
    script = next((second.value for second in step.inputs if second.name == "script"), None)
    if isinstance(script, str):
        ET.SubElement(element, B + "script").text = clean_text(script)


# Brackets and ampersands inside the JSON of an extension are escaped there, so that it stays readable as text.
ESCAPES = {
    ord("<"): "\\u003c",
    ord(">"): "\\u003e",
    ord("&"): "\\u0026",
    0x7F: "\\u007f",
    0xFFFE: "\\ufffe",
    0xFFFF: "\\uffff",
}

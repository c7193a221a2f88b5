# Names and texts as BPMN XML wants them: the spaces of the standard, ids that XML allows, texts without control characters.
"""Names of BPMN documents."""

from __future__ import annotations

import re

from zeitbuch.core.model import bpmn_terms as E

B = f"{{{E.MODEL_SPACE}}}"
D = f"{{{E.DIAGRAM_SPACE}}}"
DC = "{http://www.omg.org/spec/DD/20100524/DC}"
DI = "{http://www.omg.org/spec/DD/20100524/DI}"
Z = f"{{{E.OWN_SPACE}}}"
XSI = "{http://www.w3.org/2001/XMLSchema-instance}"
_BAD = re.compile(r"[^A-Za-z0-9_.\-]")
_CONTROL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\ud800-\udfff]")


def clean_text(text: str) -> str:
    """A text without the characters that XML 1.0 (section 2.2) does not allow."""
    return _CONTROL.sub("\ufffd", text)


def xml_name(text: str) -> str:
    """A text as an XML name without colon."""
    made = _BAD.sub("_", text)
    return made if made[:1].isalpha() or made[:1] == "_" else f"n{made}"

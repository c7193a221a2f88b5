# Flows in the standards of others, which have no words for all that a flow is. What was written is read back and compared with
# the flow, so that what is said to be left out is what really is.
"""Converting flows to standards that cannot say everything."""

from __future__ import annotations

import tempfile
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from zeitbuch.core.diff.losses import Loss, find_losses
from zeitbuch.core.graph.inlining import inline_flows
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.readers.reading.formats import FORMATS
from zeitbuch.writers.exchange.sayable import Exchanged

if TYPE_CHECKING:
    from zeitbuch.readers.reading.reader import Reader

    from .session import Session


class Standard(NamedTuple):
    """A standard that flows are written in as far as it has words: its name among the formats, and the module that writes it."""

    name: str
    module: str


STANDARDS = {
    row.name: row
    for row in (
        Standard("serverless", "zeitbuch.writers.exchange.serverless"),
        Standard("arazzo", "zeitbuch.writers.exchange.arazzo"),
        Standard("agent-spec", "zeitbuch.writers.exchange.agent_spec"),
    )
}
_EXAMPLES = 3


class Converted(NamedTuple):
    """The text, empty when nothing could be said, and what is to be told of it."""

    text: str
    problems: list[Problem]


def convert_flows(session: Session, estate: Estate, form: str) -> Converted:
    """Flows in a standard, and what it leaves out of each."""
    exchanged: Exchanged = import_module(STANDARDS[form].module).exchange_flows(estate)
    title = next(row.title for row in FORMATS if row.name == form)
    problems = [_refused(title, flow, why) for flow, why in exchanged.refused]
    back = _read_back(exchanged.text, session.make_reader()) if exchanged.written else []
    wanted = sum(1 + written.inner for written in exchanged.written)
    if len(back) != wanted:
        raise fail("fault", f"expected {wanted} flows in what was written, found {len(back)}")
    for written in exchanged.written:
        whole, *inner = [back.pop(0) for _ in range(1 + written.inner)]
        whole = inline_flows(whole, {flow.id: flow for flow in inner})
        problems += _left_out(title, written.flow, find_losses(written.flow, whole, written.names))
    return Converted(exchanged.text if exchanged.written else "", problems)


def _read_back(text: str, reader: Reader) -> list[Flow]:
    """What is read of the text, as of any file."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "written.yaml"
        path.write_text(text, encoding="utf-8")
        return list(reader.read_sources([str(path)]))


def _refused(title: str, flow: Flow, why: str) -> Problem:
    return Problem(
        "convert-unsayable",
        "error",
        f"expected a flow that can be said in {title}, found '{flow.title}': {why}",
        flow.origin,
        "convert it to BPMN or to the native form",
    )


def _left_out(title: str, flow: Flow, losses: list[Loss]) -> list[Problem]:
    if not losses:
        return []
    own = [loss.what for loss in losses if loss.places is None]
    parts = [f"of the flow: {', '.join(own)}"] if own else []
    parts += [f"{loss.what} ({_places(loss.places)})" for loss in losses if loss.places]
    message = f"{title} leaves out of '{flow.title}', or says otherwise: {'; '.join(parts)}"
    hint = "the native form and BPMN keep everything"
    return [Problem("convert-left-out", "warning", message, flow.origin, hint)]


def _places(places: tuple[str, ...]) -> str:
    """The first places, and how many more there are."""
    named = list(dict.fromkeys(places))
    more = f" and {len(named) - _EXAMPLES} more" if len(named) > _EXAMPLES else ""
    return ", ".join(named[:_EXAMPLES]) + more

# What the elements of BPMN 2.0 (OMG formal/2011-01-03) are in the words of the model. Tables only.
"""Tables of BPMN elements."""

from __future__ import annotations

from typing import NamedTuple

from .records import Effect, JoinMode, StepKind, TriggerKind

MODEL_SPACE = "http://www.omg.org/spec/BPMN/20100524/MODEL"
DIAGRAM_SPACE = "http://www.omg.org/spec/BPMN/20100524/DI"

# BPMN 2.0 clause 10.3: activities
TASKS: dict[str, tuple[StepKind, Effect]] = {
    "task": ("other", "none"),
    "serviceTask": ("http", "none"),
    "sendTask": ("send", "send"),
    "receiveTask": ("wait", "none"),
    "userTask": ("approve", "none"),
    "manualTask": ("approve", "none"),
    "scriptTask": ("code", "none"),
    "businessRuleTask": ("code", "none"),
    "callActivity": ("subflow", "none"),
}
SCOPES: dict[str, StepKind] = {"subProcess": "group", "adHocSubProcess": "group", "transaction": "guard"}
# clause 10.6: gateways, diverging; see JOINS for converging
GATEWAYS: dict[str, StepKind] = {
    "exclusiveGateway": "decide",
    "inclusiveGateway": "decide",
    "eventBasedGateway": "decide",
    "complexGateway": "decide",
    "parallelGateway": "parallel",
}
JOINS: dict[str, JoinMode] = {
    "exclusiveGateway": "each",
    "inclusiveGateway": "once",
    "eventBasedGateway": "each",
    "complexGateway": "once",
    "parallelGateway": "all",
}
# clause 10.5: events
EVENTS = ("startEvent", "intermediateCatchEvent", "intermediateThrowEvent", "boundaryEvent", "endEvent")
DEFINITIONS: dict[str, TriggerKind] = {
    "timerEventDefinition": "schedule",
    "messageEventDefinition": "event",
    "signalEventDefinition": "event",
    "conditionalEventDefinition": "event",
    "errorEventDefinition": "fault",
    "escalationEventDefinition": "event",
    "compensateEventDefinition": "event",
    "cancelEventDefinition": "event",
    "linkEventDefinition": "event",
    "terminateEventDefinition": "event",
}
NOTES = ("textAnnotation", "group")
NODES = frozenset({*TASKS, *SCOPES, *GATEWAYS, *EVENTS})
MARKERS = ("multiInstanceLoopCharacteristics", "standardLoopCharacteristics")
EVENT_SUBPROCESS = "eventSubProcess"


class SaidAttribute(NamedTuple):
    """An attribute of the standard that becomes an input: ``silent`` says nothing (the default of the schema), ``tags`` may have
    it, ``values`` is what the schema allows."""

    silent: str
    tags: frozenset[str]
    values: str


_ACTIVITY = frozenset({*TASKS, *SCOPES})
_TRUTH, _NUMBER, _ANY = "true|false", r"\d{1,9}", r"\S+"
SAID_ATTRIBUTES: dict[str, SaidAttribute] = {
    "isForCompensation": SaidAttribute("false", _ACTIVITY, _TRUTH),
    "startQuantity": SaidAttribute("1", _ACTIVITY, _NUMBER),
    "completionQuantity": SaidAttribute("1", _ACTIVITY, _NUMBER),
    "implementation": SaidAttribute(
        "", frozenset({"serviceTask", "sendTask", "receiveTask", "userTask", "businessRuleTask"}), _ANY
    ),
    "instantiate": SaidAttribute("false", frozenset({"receiveTask", "eventBasedGateway"}), _TRUTH),
    "method": SaidAttribute("", frozenset({"transaction"}), _ANY),
    "ordering": SaidAttribute("", frozenset({"adHocSubProcess"}), "Parallel|Sequential"),
    "cancelRemainingInstances": SaidAttribute("true", frozenset({"adHocSubProcess"}), _TRUTH),
    "eventGatewayType": SaidAttribute("Exclusive", frozenset({"eventBasedGateway"}), "Exclusive|Parallel"),
    "parallelMultiple": SaidAttribute("false", frozenset({"intermediateCatchEvent", "boundaryEvent"}), _TRUTH),
}
# What a message, error and the like say beside their names: attribute and the word of the input.
SHARED_CODES = (("errorCode", "code"), ("escalationCode", "code"), ("structureRef", "structure"), ("itemRef", "item"))
# What an event listens to by name, and the attribute by which its definition refers to it.
HEARD = {"message": "messageRef", "signal": "signalRef", "error": "errorRef", "escalation": "escalationRef"}
CLOCKS = ("timeDate", "timeDuration", "timeCycle")
# Attributes of a process that become variables, and what the schema allows.
PROCESS_ATTRIBUTES = {
    "isExecutable": ("true", "false"),
    "isClosed": ("true", "false"),
    "processType": ("None", "Public", "Private"),
}


def repeat_name(name: str) -> str:
    """The name of the loop around an activity with a marker."""
    return f"{name} (repeated)" if name else ""


TEST_BEFORE = "test before"
MARKER_INPUTS = ("sequential", TEST_BEFORE, "inputDataItem", "outputDataItem", "loopDataOutputRef")
OWN_SPACE = "urn:zeitbuch:flow:1"  # extension elements that carry what BPMN has no place for
# What of a record BPMN itself says; the rest goes into the extension.
STEP_SAID = ("id", "name", "scope", "origin", "position")
TRIGGER_SAID = ("id", "name", "origin", "position")
LINK_SAID = ("source", "target", "origin")
FLOW_SAID = ("id", "name", "steps", "triggers", "links", "origin")

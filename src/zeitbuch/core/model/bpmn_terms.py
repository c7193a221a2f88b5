# What the elements of BPMN 2.0 (OMG formal/2011-01-03) are in the words of the model. Tables only.
"""Tables of BPMN elements."""

from __future__ import annotations

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
OWN_SPACE = "urn:zeitbuch:flow:1"  # extension elements that carry what BPMN has no place for
# What of a record BPMN itself says; the rest goes into the extension.
STEP_SAID = ("id", "name", "scope", "origin", "position")
TRIGGER_SAID = ("id", "name", "origin", "position")
LINK_SAID = ("source", "target", "origin")
FLOW_SAID = ("id", "name", "steps", "triggers", "links", "origin")

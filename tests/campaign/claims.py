"""Whether the claims of a proposal are right, held against what stands in the estate."""

from __future__ import annotations

from collections import Counter, defaultdict
from typing import NamedTuple

from zeitbuch.core.model.records import Flow
from zeitbuch.readers.infer.claims import Claim

from .estates import Judged, MadeEstate, shares, without_gates, without_rounds

_RIGHT = 0.97  # precision and recall from which a part as a whole is right
_PARTS = {
    "steps": "steps", "links": "links", "flow state": "states", "triggers": "triggers", "model": "models", "prompts": "prompts",
    "switched off": "off", "own condition": "conditions", "own repeats": "rounds",
}  # fmt: skip


class JudgedClaim(NamedTuple):
    """A claim and whether it is right."""

    claim: Claim
    right: bool


def judge_claims(made: MadeEstate, judged: Judged) -> list[JudgedClaim]:
    """All claims that can be held against the truth."""
    if judged.proposal is None:
        return []
    found = shares(judged.counts)
    read = [without_gates(without_rounds(flow)[0])[0] for flow in judged.flows]
    about = _About(made, read, {flow.name: flow for flow in read})
    result: list[JudgedClaim] = []
    for claim in judged.proposal.made.claims:
        right = about.is_right(claim, found)
        if right is not None:
            result.append(JudgedClaim(claim, right))
    return result


class _About:
    def __init__(self, made: MadeEstate, read: list[Flow], by_name: dict[str, Flow]) -> None:
        self.made, self.read, self.by_name = made, read, by_name
        self.kinds = made.kinds
        self.schedules: dict[str, list[tuple[str, str]]] = defaultdict(list)
        for truth in made.flows:
            flow = by_name.get(truth.name)
            for trigger in flow.triggers if flow is not None else ():
                clock = trigger.schedule
                said = "" if clock is None else clock.cron or (f"every {clock.every:g}" if clock.every else "?")
                self.schedules[trigger.operation].append((truth.schedule, said))

    def is_right(self, claim: Claim, found: dict[str, tuple[float, float]]) -> bool | None:
        if claim.part in _PARTS:
            return min(found[_PARTS[claim.part]]) >= _RIGHT
        if claim.part == "flow name":
            return found["flows"][1] >= _RIGHT
        if claim.part == "operation":
            every = Counter(step.operation in self.kinds for flow in self.read for step in flow.steps)
            return every[True] >= _RIGHT * sum(every.values())
        if claim.part == "id":
            wanted = {
                str(box.name if self.made.by_name else box.id) for truth in self.made.flows for box in truth.every
            }
            got = [step.id for flow in self.read for step in flow.steps]
            return sum(name in wanted for name in got) >= _RIGHT * len(got)
        if claim.part == "kind":
            return self.kinds.get(claim.of) == claim.words if claim.of in self.kinds else None
        if claim.part == "trigger kind":
            return self.kinds.get(claim.of) == claim.words if claim.of in self.kinds else None
        if claim.part == "schedule" and self.schedules.get(claim.of):
            return all(wanted == said for wanted, said in self.schedules[claim.of])
        if claim.part == "placeholders":
            return claim.words.startswith(" … ".join(self.made.delimiters) + ":")
        return None

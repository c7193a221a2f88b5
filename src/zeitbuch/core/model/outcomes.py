# Behind a decision one of several ways is taken. So it is behind any other step whose links are cases: an approval that is given or
# refused, a model that answers yes or no, a call that finds something or not. What a step is does not matter: its links say it.
"""Steps with outcomes."""

from __future__ import annotations

from collections.abc import Iterable

from .records import Flow, Link, Outcome, StepKind

BESIDE = frozenset({"parallel", "join", "note"})  # kinds whose ways are taken side by side, whatever they are called


def deciding_steps(flow: Flow) -> frozenset[str]:
    """The steps behind which one of several ways is taken, or with ``inclusive`` some of them."""
    kinds = {step.id: step.kind for step in flow.steps}
    found = {name for name, kind in kinds.items() if kind == "decide"}
    cases = [link for link in flow.links if link.role == "case" and kinds.get(link.source, "decide") != "decide"]
    return frozenset(found | _deciding_otherwise(flow, kinds, cases) if cases else found)


def _deciding_otherwise(flow: Flow, kinds: dict[str, StepKind], cases: list[Link]) -> set[str]:
    """Those of other kinds whose links are cases; a link into a scope names a branch of what is in it."""
    scopes = {step.id: step.scope for step in flow.steps}
    told = [link for link in cases if kinds[link.source] not in BESIDE]
    return {link.source for link in told if not is_inside(link.target, link.source, scopes)}


def is_inside(step: str, scope: str, scopes: dict[str, str | None]) -> bool:
    """Whether a step stands in a scope, or in one within it. ``scopes``: the scope of each step."""
    seen: set[str] = set()
    at = scopes.get(step)
    while at is not None and at not in seen:
        if at == scope:
            return True
        seen.add(at)
        at = scopes.get(at)
    return False


def is_case(link: Link, kind: str) -> bool:
    """Whether a link is one of the ways of a step with outcomes: of a decision all that are taken after success, of others those that
    are called cases."""
    return link.role not in ("error", "attach") if kind == "decide" else link.role == "case"


def takes_faults(link: Link) -> bool:
    """Whether a link is only taken when its step fails or runs out of time."""
    if not link.after:
        return link.role == "error"
    return "success" not in link.after and ("failure" in link.after or "timeout" in link.after)


def takes_outcome(link: Link, outcome: Outcome) -> bool:
    """Whether a link is taken after a failure, or when its step runs out of time."""
    return outcome in link.after or (link.role == "error" and not link.after)


def case_name(link: Link) -> str:
    """What tells the cases of a step apart: links of one label are one case."""
    return link.label or link.condition or f"to {link.target}"


def is_bare(link: Link) -> bool:
    """Whether nothing says when a way is taken."""
    return not (link.label or link.condition or link.otherwise)


_CLOSED = frozenset({"yes", "no", "true", "false", "else", "other", "otherwise", "default"})


def leaves_rest_open(links: Iterable[Link], kind: str) -> bool:
    """Whether a decision with these links has no way for what fits none of its cases; a yes and a no leave nothing over, and of several ways
    the only one without a label is for the rest."""
    ways = [link for link in links if link.role in ("case", "next")]
    return kind == "decide" and bool(ways) and not _has_way_for_rest(ways)


def _plain(label: str) -> str:
    """A label without what says that it is an answer: "on_false" is "false"."""
    return label.casefold().removeprefix("on_").removeprefix("if_")


def _has_way_for_rest(ways: list[Link]) -> bool:
    bare = {link.target for link in ways if is_bare(link)}
    closed = any(link.otherwise or link.role == "next" or _plain(link.label) in _CLOSED for link in ways)
    return closed or (len(bare) == 1 and len(ways) > 1)

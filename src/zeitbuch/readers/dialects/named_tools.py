# The tools of an agent are often no steps: it lists their names, and what each of them does stands nowhere in the export.
"""Tools that agents name."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from zeitbuch.core.model.records import Link, Step

from .gates import free_id
from .paths import as_text
from .step_plan import Plan, Plans

if TYPE_CHECKING:
    from .draft import Draft


def tool_names(plan: Plan, raw: dict[str, Any]) -> list[str]:
    """The names in the field of a step that lists its tools, each once."""
    value = plan.get["tools"](raw) if "tools" in plan.get else None
    listed = value if type(value) is list else [value]
    return list(dict.fromkeys(name for item in listed if (name := as_text(item))))


def add_tools(draft: Draft, plans: Plans) -> None:
    """Gives every agent the tools that it names: the rules for operations say by their names what they do, where they say it. Where a step is
    called so it is the tool, if nothing else leads to it or from it."""
    linked = {end for link in draft.links if link.role != "attach" for end in (link.source, link.target)}
    taken = {*(step.id for step in draft.steps), *(trigger.id for trigger in draft.triggers)}
    scopes = {step.id: step for step in draft.steps}
    for agent, names in draft.tools.items():
        for name in names:
            known = draft.step_named(name)
            if known is None or known not in scopes:
                draft.steps.append(_tool_step(free_id(f"{agent}.{name}", taken), name, scopes[agent], plans))
                draft.links.append(Link(source=draft.steps[-1].id, target=agent, role="attach"))
            elif known in linked:
                draft.lost.append({f"tool of {agent}": name})
            elif not any(link.source == known and link.target == agent for link in draft.links):
                draft.links.append(Link(source=known, target=agent, role="attach"))


def _tool_step(key: str, name: str, agent: Step, plans: Plans) -> Step:
    plan = plans.plan_of(name, {})
    kind = plan.kind if plan.rule.trigger is None else "other"
    return Step(
        id=key, kind=kind, name=name, operation=name, effect=plan.rule.effect, scope=agent.scope, origin=agent.origin
    )

# The page of rules: ten worked examples, and every fact that a rule may ask for. Written from the tables, so that nothing is named that is not.
"""docs/rules.md."""

from __future__ import annotations

from zeitbuch.core.model.conditions import facts_table

from .rule_facts import OVER, known_facts

HEAD = """# Rules of the house

A rule says what is not to be, without any Python. It stands in `zeitbuch.toml`, is checked with all others by `zeitbuch check`, and is tried from a file
of its own with `zeitbuch check --try FILE`.

| key | what it says |
| --- | --- |
| `code` | its own code: small letters, digits, dashes |
| `over` | what is looked at: each `step` (the default), `flow`, `trigger`, `input` or `prompt` that is switched on |
| `where` | a condition; whatever it holds for is a finding |
| `severity` | high, medium (the default) or low |
| `sentence` | what is told, with facts in braces: `{connection}`, `{value(amount)}` |
| `reason` | why that matters |
| `remedy` | what to do |

A condition compares facts with words and numbers: `=` and `!=` (without case; `*` stands for any letters), `~` (holds the word), `<`, `<=`, `>`, `>=`;
a fact alone holds when it is there. They are joined by `and`, `or`, `not` and brackets; words with blanks stand in quotes. Of a fact with several values
any may hold, and none for `!=`. What an export does not state is neither less nor more than any number. A fact that nobody knows is refused, with those
that are known.

## Ten rules
"""
EXAMPLES: tuple[tuple[str, str], ...] = (
    ("A model never chooses who gets a message, unless a person looks first", '''code = "model-picks-recipient"
where = "effect=send and decided(recipient)=model and not behind(approve)"
severity = "high"
sentence = "a model chooses who gets it, and nobody looks"
reason = "A letter went to the wrong passenger."'''),
    ("Payments need an approval on the way", '''code = "payment-unapproved"
where = "effect=spend and not behind(approve)"
severity = "high"
sentence = "spends without an approval before"
reason = "The treasurer signs every payment."
remedy = "Put an approval before it."'''),
    ("Only the small model sorts letters", '''code = "large-model-for-label"
where = "kind=model and task=label and model=*-large*"
sentence = "sorts with {model}"
reason = "The small one is as good at it and costs a tenth."'''),
    ("Agents have few turns", '''code = "many-turns"
where = "kind=agent and max_turns > 10"
severity = "low"
sentence = "may take {max_turns} turns"
reason = "More than ten never led to a better answer."'''),
    ("Calls to services outside have a time limit", '''code = "no-time-limit"
where = "kind=http and not timeout"
severity = "low"
sentence = "has no time limit"
reason = "A service that hangs holds up the run."'''),
    ("Flows in production have a folder and an owner", '''code = "nobodys-flow"
over = "flow"
where = "state=on and (owners=0 or not folder)"
sentence = "has {owners} owners and stands in the folder '{folder}'"
reason = "Every flow belongs to a desk."'''),
    ("Prompts stay short", '''code = "long-prompt"
over = "prompt"
where = "tokens > 2000"
severity = "low"
sentence = "a prompt of {tokens} tokens"
reason = "It is paid for in every call."'''),
    ("No amount is fixed above the limit of the house", '''code = "amount-too-high"
over = "input"
where = "role=amount and decided=fixed and value > 450"
severity = "high"
sentence = "an amount of {value}"
reason = "Above 450 the board decides."'''),
    ("Schedules name the zone of the line", '''code = "other-zone"
over = "trigger"
where = "kind=schedule and zone != Europe/Oslo and cron"
severity = "low"
sentence = "fires by the clock of {zone}"
reason = "The timetable is in Oslo time."'''),
    ("Mail goes out from the desk's own box", '''code = "other-mailbox"
where = "effect=send and service ~ mail and not account=*@ferry.example"
sentence = "sends from {account}"
reason = "Answers have to come back to the desk."'''),
)  # fmt: skip


def rules_page() -> str:
    """The page as Markdown."""
    parts = [HEAD]
    for title, text in EXAMPLES:
        parts.append(f"{title}:\n\n```toml\n[[rule]]\n{text}\n```\n")
    parts.append("## Facts\n")
    for over in OVER:
        own = {name: fact for name, fact in known_facts(over).items() if "." not in name}
        parts.append(f"Of each {over}:\n\n| fact | what it is |\n| --- | --- |")
        parts += [f"| `{name}` | {about} |" for name, about in facts_table(own)]
        parts.append("")
    parts.append("Rules over steps, triggers, inputs and prompts may ask for facts of the flow with `flow.` (`flow.owner`), those over inputs and prompts also "
                 "for facts of the step with `step.` (`step.kind`).\n")  # fmt: skip
    return "\n".join(parts)

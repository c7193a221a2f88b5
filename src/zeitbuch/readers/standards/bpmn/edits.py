# What a modelling tool has edited in an element that we wrote, put into the step that its record holds. Everything that was not
# edited stays as the record says, which knows more than BPMN can say.
"""Edits of BPMN elements that carry records of ours."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import structs

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_inputs import fold_text, is_outside, prompt_inputs, says_the_same
from zeitbuch.core.model.kinds import KINDS
from zeitbuch.core.model.records import Binding, ModelUse, Prompt, Step

_HEARD = frozenset({*E.CLOCKS, *E.HEARD, "condition", "name", "activity", "operation"})
_WORDS = {"isInterrupting": "interrupting", "parallelMultiple": "together", "triggeredByEvent": "interrupting"}
_DATA = frozenset({"dataInputAssociation", "dataOutputAssociation"})


def edited_step(made: Step, read: Step, edits: set[str]) -> Step:
    """The step of a record, with what was edited since as it was read."""
    if "documentation" in edits or "text" in edits or "categoryValueRef" in edits:
        made = structs.replace(made, note=read.note)
    if "calledElement" in edits:
        made = structs.replace(made, calls=read.calls)
    if edits & _DATA and made.model is not None:
        made, read = _edited_prompts(made, made.model, read)
    if "tag" in edits or (edits & E.DEFINITIONS.keys()):
        # Another task or event: it is what it was made, and uses a model only where such a step can.
        model = made.model if KINDS[read.kind].uses_model else None
        made = structs.replace(made, kind=read.kind, effect=read.effect, operation=read.operation, join=read.join, inclusive=read.inclusive, model=model)  # fmt: skip
    if edits & set(E.MARKERS) and read.kind == "loop":
        made = structs.replace(made, kind="loop", repeat=read.repeat, operation=read.operation)
    elif edits & set(E.MARKERS) and made.kind == "loop":
        made = structs.replace(made, kind=read.kind, repeat=None, operation=read.operation)
    inputs = edited_inputs(made.inputs, read.inputs, edits, read.operation)
    about = read.about if read.operation in E.NOTES else made.about  # associations stand outside of the note
    return structs.replace(made, inputs=inputs, about=about)


def _edited_prompts(made: Step, model: ModelUse, read: Step) -> tuple[Step, Step]:
    """Prompts and model as the data inputs say now; those inputs are then no inputs of the step any more."""
    written = prompt_inputs(made)
    now = {binding.name: str(binding.value or "") for binding in read.inputs if binding.name in written}
    name = now.get("model", "") if "model" in written else model.name
    keys = [key for key in written if key != "model"]
    prompts = model.prompts
    if len(keys) == len(prompts):  # else an input of the step has the name of a prompt, and prompts stay as they are
        pairs = zip(prompts, keys, strict=True)
        prompts = tuple(
            _edited_prompt(prompt, now.get(key, "")) for prompt, key in pairs if now.get(key) or not prompt.text
        )
    edited = structs.replace(made, model=structs.replace(model, name=name or None, prompts=prompts))
    return edited, structs.replace(read, inputs=tuple(one for one in read.inputs if one.name not in written))


def _edited_prompt(prompt: Prompt, text: str) -> Prompt:
    if fold_text(text) == fold_text(prompt.text):
        return prompt
    return structs.replace(prompt, text=text, refs=tuple(ref for ref in prompt.refs if ref.text and ref.text in text))


def edited_inputs(
    held: tuple[Binding, ...], read: tuple[Binding, ...], edits: set[str], operation: str
) -> tuple[Binding, ...]:
    """Inputs of a record with those that the edited parts now give put in their places; what such a part gave and no longer
    gives is taken out. Lanes and messages stand outside the element: they always come from the BPMN."""
    from_file = _edited_by(edits, operation, {binding.name for binding in read})
    own = {binding.name for binding in held}
    fresh = [binding for binding in read if from_file(binding) and _other_end(binding) not in own]
    kept = []
    for binding in held:
        if not from_file(binding):
            kept.append(binding)
            continue
        alike = [one for one in fresh if one.name == binding.name]
        match = next((one for one in alike if says_the_same(binding, one)), alike[0] if alike else None)
        if match is not None:
            fresh.remove(match)
            kept.append(binding if says_the_same(binding, match) else match)
    return (*kept, *fresh)


def _other_end(binding: Binding) -> str | None:
    """The input into which a data object goes, where it has a name of its own."""
    about = binding.description or ""
    return about.removeprefix("as ") if about.startswith("as ") and binding.refs else None


def _edited_by(edits: set[str], operation: str, read: set[str]) -> Callable[[Binding], bool]:
    """Which inputs come from the parts that were edited."""
    names = {*edits, *(_WORDS[edit] for edit in edits if edit in _WORDS)}
    if "script" in edits or "scriptFormat" in edits:
        names |= {"script", "language"}
    if edits & E.DEFINITIONS.keys():
        names |= _HEARD | {f"{word} {code}" for word in E.HEARD for _, code in E.SHARED_CODES}
    if "messageRef" in edits:
        names.add("message")
    whole = bool(edits & _DATA)
    if whole and operation.split(" ")[0] not in (*E.TASKS, *E.SCOPES, E.EVENT_SUBPROCESS):
        names, whole = names | read, False  # of activities alone BPMN has all inputs
    return lambda binding: whole or is_outside(binding) or binding.name in names

"""Messages that are texts or lists of parts, and everyday words of other languages: nothing of a prompt is lost, nothing clear is asked."""

from __future__ import annotations

from typing import Any

import pytest

from scores import read_with
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.state_words import says_state, state_of_word
from zeitbuch.readers.infer.suggest import Suggestion, suggest_dialect
from zeitbuch.readers.input.clock_texts import duration_of

FIRST = "You answer passengers about the {0} of the ferry kindly, in two short sentences and in plain words."
SECOND = "A passenger wrote ${{p0.text}} about the {0}. Answer, and say which deck to go to."
BOTH = '[{ path = "with.said.*.body" }, { path = "with.said.*.body.*.words" }]'
DIALECT = """
dialect = 1
name = "parts"
signature = {{ all = ["$.steps"] }}
flow = {{ id = "id" }}
step = {{ at = "$.steps[*]", id = "id", operation = "does", settings = "with", prompts = {0} }}
placeholders = {{ open = "${{", close = "}}" }}
[[kind]]
operation = "ask"
kind = "model"
"""


def read(prompts: str, *messages: Any) -> Flow:
    steps = [
        {"id": "p0", "does": "x"},
        {"id": "p1", "does": "ask", "with": {"said": [{"body": body} for body in messages]}},
    ]
    (flow,) = read_with(parse_dialect(DIALECT.format(prompts), "parts.toml"), [{"id": "f", "steps": steps}])
    return flow


TEXT, IMAGE = {"sort": "words", "words": "Look at ${p0.photo}."}, {"sort": "image", "of": "${p0.photo}"}


@pytest.mark.parametrize(
    ("prompts", "messages", "texts", "unread"),
    [
        (BOTH, ("Be kind.", [TEXT]), ["Be kind.", "Look at ${p0.photo}."], False),
        (BOTH, ([TEXT, IMAGE, TEXT],), ["Look at ${p0.photo}.\nLook at ${p0.photo}."], True),
        ('[{ path = "with.said.*.body.*.words" }]', ([TEXT], [TEXT, IMAGE]), ["Look at ${p0.photo}."] * 2, True),
        ('[{ path = "with.said.*.body" }]', ("Be kind.", "Be brief."), ["Be kind.", "Be brief."], False),
        ('[{ path = "with.said.*.body" }]', (["Be kind.", "Be brief."],), ["Be kind.\nBe brief."], False),
    ],
)  # fmt: skip
def test_every_text_of_a_message_is_a_prompt(prompts: str, messages: Any, texts: list[str], unread: bool) -> None:
    flow = read(prompts, *messages)
    model = flow.steps[1].model
    assert model is not None and [prompt.text for prompt in model.prompts] == texts
    if any("photo" in text for text in texts):
        assert any(ref.step == "p0" for prompt in model.prompts for ref in prompt.refs)
    assert not flow.unread
    kept = {value.name: value.value for value in flow.steps[1].inputs}
    assert ("image" in str(kept)) == unread, kept


def test_a_number_among_messages_is_kept() -> None:
    flow = read('[{ path = "with.said.*.body" }]', "Be kind.", 7)
    assert "7" in str(flow.steps[1].unread)


@pytest.mark.parametrize("body", [7, True, ["Be kind.", TEXT], ["Be kind."]])
def test_what_neither_path_takes_is_no_prompt_and_kept(body: Any) -> None:
    """A path that goes on into parts leaves texts of its own to the other only where a whole message is one."""
    step = read(BOTH, "Be brief.", body).steps[1]
    assert step.model is not None
    texts = [prompt.text for prompt in step.model.prompts]
    assert texts == ["Be brief.", *(["Look at ${p0.photo}."] if TEXT in (body if type(body) is list else []) else [])]
    kept = str([value.value for value in step.inputs]) + str(step.unread)
    assert ("Be kind." in kept) if type(body) is list else (str(body) in kept)


def spanish(at: int) -> dict[str, Any]:
    """Everything has a word, none of them English; messages are in parts, waits and pauses objects."""
    room = ("faro", "muelle", "ancla")[at % 3]
    kinds = ["tabla.buscar", "modelo.responder", "esperar", "correo.enviar", "modelo.responder"]
    given: dict[str, Any] = {
        "tabla.buscar": {"tabla": room, "donde": "estado = 'nuevo'"},
        "modelo.responder": {
            "motor": {"nombre": "skua-lite-1"},
            "mensajes": [
                {"rol": "sistema", "partes": [{"tipo": "texto", "texto": FIRST.format(room)}]},
                {"rol": "usuario", "partes": [{"tipo": "texto", "texto": SECOND.format(room)}]},
            ],
        },
        "esperar": {"durante": {"valor": (5, 10, 30)[at % 3], "unidad": "minutos"}},
        "correo.enviar": {"para": f"{room}@puerto.example", "asunto": "Aviso", "cuerpo": "${p1.texto}"},
    }
    steps = []
    for place, kind in enumerate(kinds):
        one = {"clave": f"p{place}", "nombre": f"Paso {place} del {room}", "accion": kind, "config": given[kind]}
        one["estado"] = "inactivo" if (at + place) % 11 == 3 else "activo"
        if place == at % 5:
            one["reintentos"] = {"veces": 3, "pausa": "20s"}
        steps.append(one)
    ways = [{"desde": f"p{place}", "hasta": f"p{place + 1}", "marca": f"m{place}"} for place in range(4)]
    begin = [{"tipo": "reloj", "cada": {"valor": 2, "unidad": "horas"}}, {"tipo": "gancho", "ruta": f"/in/{at}"}][
        at % 2
    ]
    state = "borrador" if at % 4 == 1 else "publicado"
    ways.append({"desde": "p0", "hasta": "p4", "marca": "m4"})
    head = {"id": f"f{at}", "titulo": f"El {room} {at}", "situacion": state, "inicio": [begin]}
    return {"flujo": {**head, "pasos": steps, "uniones": ways}}


@pytest.fixture(scope="module")
def suggestion() -> Suggestion:
    made = suggest_dialect([spanish(at) for at in range(14)], "puerto")
    assert made is not None
    return made


def test_what_words_of_another_language_say_is_not_asked(suggestion: Suggestion) -> None:
    step, flow = suggestion.dialect.step, suggestion.dialect.flow
    assert (step.enabled, step.switches) == ("estado", {"activo": True, "inactivo": False})
    assert (step.retries, step.retry_wait) == ("reintentos.veces", "reintentos.pausa")
    assert (flow.state, flow.states) == ("situacion", {"borrador": "draft", "publicado": "on"})
    assert [rule.wait for rule in suggestion.dialect.kind if rule.operation == "esperar"] == ["config.durante"]
    assert [question.id for question in suggestion.questions] == ["trigger gancho"]
    (links,) = suggestion.dialect.links
    assert not links.outlet, "what names the links one by one says nothing of the ways they take"


def test_prompts_in_parts_are_read_as_proposed(suggestion: Suggestion) -> None:
    (flow,) = read_with(suggestion.dialect, [spanish(1)])
    texts = [prompt.text for step in flow.steps if step.model is not None for prompt in step.model.prompts]
    assert texts == [FIRST.format("muelle"), SECOND.format("muelle")] * 2
    pause = flow.steps[2].pause
    assert pause is not None and pause.seconds == 600.0


@pytest.mark.parametrize(
    ("value", "seconds"),
    [
        ({"valor": 10, "unidad": "minutos"}, 600.0), ("2 Stunden und 30 Minuten", 9000.0), ("1 heure et 5 minutes", 3900.0),
        ("3 días", 259200.0), ("2 ore e 10 minuti", 7800.0), ("3 veckor", 1814400.0), ("1 døgn", 86400.0), ({"n": 3, "of": "times"}, None),
        ("3 tideman", None), ("2 time", None),
        ({"type": "timer", "value": 5}, None), ({"tag": 3}, None), ({"kind": "dag", "size": 4}, None),
    ],
)  # fmt: skip
def test_lengths_of_time_in_other_languages(value: Any, seconds: float | None) -> None:
    assert duration_of(value) == seconds


@pytest.mark.parametrize(
    ("word", "state"),
    [("publicado", "on"), ("Veröffentlicht", "on"), ("désactivée", "off"), ("arquivado", "off"), ("kladd", "draft"), ("ferry", "")],
)  # fmt: skip
def test_words_for_states(word: str, state: str) -> None:
    assert state_of_word(word) == state and says_state(word) is bool(state)


def test_a_draft_is_not_offered_as_on() -> None:
    """One of two words is known: the other may be on, it is not."""
    documents = [spanish(at) for at in range(14)]
    for document in documents:
        if document["flujo"]["situacion"] == "publicado":
            document["flujo"]["situacion"] = "zarpado"
    made = suggest_dialect(documents, "puerto")
    assert made is not None
    questions = {one.id: one for one in made.questions}
    assert [answer.word for answer in questions["state"].answers] == ["zarpado is on", "no"]


def test_each_message_has_the_role_that_it_says() -> None:
    """All messages of a list had one role."""
    talk = [
        {"who": "system", "says": "You answer letters of passengers."},
        {"who": "user", "says": "Answer this one: <<a.body>>"},
        {"says": "Be brief."},
        {"who": {"n": 1}, "says": [{"text": "In"}, {"text": "parts"}]},
    ]
    text = (
        'dialect = 1\nname = "talk"\nsignature = { all = ["$.steps"] }\nflow = { id = "id" }\n'
        'step = { at = "$.steps[*]", operation = "does", prompts = [{ path = "talk.*.says", role = "note", speaker = "talk.*.who" },'
        ' { path = "talk.*.says.*.text", speaker = "talk.*.who" }] }\nkind = [{ operation = "ask", kind = "model" }]\n'
    )
    (flow,) = read_with(
        parse_dialect(text, "talk.toml"), [{"id": "f", "steps": [{"id": "a", "does": "ask", "talk": talk}]}]
    )
    (step,) = flow.steps
    assert step.model is not None
    assert [(one.role, one.text) for one in step.model.prompts] == [
        ("system", "You answer letters of passengers."),
        ("user", "Answer this one: <<a.body>>"),
        ("note", "Be brief."),
        ("user", "In\nparts"),
    ]


def test_where_messages_say_who_speaks_is_proposed() -> None:
    def export(at: int) -> dict[str, Any]:
        asked = f"Answer letter {at} in three kind sentences, please: {{{{a.body}}}}"
        talk = [
            {"voice": "system", "tone": f"soft {at}", "says": "You answer the letters of passengers of a ferry line."},
            {"voice": "user", "tone": "x", "says": asked},
        ]
        steps = [
            {"id": "a", "does": "http.get", "url": "https://post.ferry.example"},
            {"id": "b", "does": "llm.ask", "model": "tern-2", "talk": talk, "after": ["a"]},
            {"id": "c", "does": "mail.send", "to": "crew@ferry.example", "after": ["b"]},
        ]
        return {"title": f"Desk {at}", "steps": steps}

    documents = [export(at) for at in range(12)]
    made = suggest_dialect(documents, "talk")
    assert made is not None
    assert [(rule.path, rule.speaker) for rule in made.dialect.step.prompts] == [("talk.*.says", "talk.*.voice")]
    (flow, *_) = read_with(made.dialect, documents)
    assert [one.role for step in flow.steps if step.model for one in step.model.prompts] == ["system", "user"]

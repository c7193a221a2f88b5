"""Words of made-up builders, drawn apart: those that the inference was fitted on and those it never met."""

from __future__ import annotations

import random
from typing import NamedTuple

# concept -> keys. The first pool is for fitting; the second is held out, never looked at when the inference is mended.
FITTED_KEYS: dict[str, str] = {
    "steps": "steps nodes boxes schritte etapes pasos tasks",
    "id": "id key ref uid kennung",
    "name": "name title label titel nom nombre",
    "operation": "type kind op art does genre tipo",
    "family": "group family gruppe", "verb": "action verb aktion",
    "settings": "config settings params given einstellungen reglages",
    "links": "links edges arrows verbindungen liens",
    "faults": "troubleArrows errorLinks fehlerwege",
    "source": "from source von de", "target": "to target nach vers", "outlet": "outlet port case ausgang",
    "condition": "condition when bedingung", "label": "label text",
    "next": "next goto weiter suivant then", "before": "after needs dependsOn nach",
    "failed": "onError onFailure bei_fehler", "cases": "branches cases zweige", "do": "do body steps inhalt",
    "flow name": "name title titel nom", "flow id": "id flowId key", "flow state": "active enabled state status aktiv",
    "model": "model llm modell modele", "system": "system instructions anweisung", "user": "prompt question frage consigne",
    "role": "role rolle", "said": "content text inhalt", "talk": "messages turns", "heat": "temperature temperatur",
    "cron": "cron expression schedule zeitplan", "zone": "timezone zone zeitzone", "every": "every interval alle",
    "minutes": "minutes everyMinutes minuten",
    "unit": "unit einheit", "days": "days tage", "at": "at time uhrzeit",
    "path": "path pfad", "event": "topic event queue", "form": "form formular",
    "url": "url address", "method": "method", "to whom": "to recipient an", "text": "text body message", "table": "table tabelle liste",
    "query": "query filter", "code": "code script", "over": "items over liste", "long": "duration dauer waitFor", "span": "duration dauer length",
    "wait seconds": "seconds waitSeconds", "wait minutes": "minutes wartezeit_minuten", "who": "approver assignee genehmiger",
    "silence": "silence onTimeout", "handler": "errorFlow fehlerablauf", "limit seconds": "limitSeconds timeout_sec",
    "test": "expression test if", "size": "size limit", "flow called": "flow workflow ablauf",
    "off": "disabled muted deaktiviert", "on": "enabled active aktiv", "retries": "retries attempts versuche",
    "own rounds": "forEach over loop fuerJedes", "own again": "repeat wiederholen", "own end": "until bis", "own most": "max limit",
    "own condition": "if runIf onlyWhen wenn", "expected": "assert expect erwartet",
    "timeout": "timeout limit", "note": "note comment kommentar",
    "position": "position pos", "x": "x left", "y": "y top", "owner": "owner besitzer", "changed": "updatedAt changed geaendert",
    "made": "createdAt created erstellt", "wrap": "flow definition data export", "flows": "flows workflows ablaeufe",
    "trigger": "trigger start ausloeser", "first": "startAt first entry", "meta": "meta info", "connection": "connection account verbindung",
    "said when": "when runs wann", "values": "vars variables variablen", "value name": "name key", "value": "value wert",
    "author": "author createdBy", "tags": "tags labels", "output": "output result",
}  # fmt: skip
HELD_KEYS: dict[str, str] = {
    "steps": "activities stages units trinn stappen passi etapas kroki blocks elements",
    "id": "uuid code handle nokkel sleutel chiave",
    "name": "caption heading display_name navn naam nome tytul",
    "operation": "class function what soort slag typ handler module",
    "family": "family area omrade", "verb": "verb deed handling",
    "settings": "parameters options args with innstillinger instellingen parametri spec",
    "links": "connections wires transitions koblinger verbindingen collegamenti flows_between",
    "faults": "failureWires avvik fallbacks",
    "source": "src begin origin fra van da", "target": "dst dest end til naar a_passo", "outlet": "branch handle exit utgang",
    "condition": "guard expr betingelse", "label": "caption tekst",
    "next": "follow successor neste volgende prossimo leads_to", "before": "requires waits_for etter na previous",
    "failed": "rescue catch ved_feil", "cases": "options paths veier rami", "do": "inner children innhold",
    "flow name": "display_name caption navn naam nome", "flow id": "uuid slug handle", "flow state": "live is_on mode tilstand stato",
    "model": "engine deployment modello modelName", "system": "persona guidance oppdrag", "user": "ask template oppgave vraag",
    "role": "speaker who", "said": "says tekst", "talk": "dialog conversation", "heat": "creativity temperatura",
    "cron": "pattern rhythm tidsplan", "zone": "tz tidssone", "every": "period repeat_after hver",
    "minutes": "period_min minutter repeatMins",
    "unit": "measure enhet", "days": "weekdays dager", "at": "clock klokkeslett",
    "path": "route sti", "event": "subject channel_name hendelse", "form": "sheet skjema",
    "url": "endpoint adresse", "method": "verb", "to whom": "receiver mottaker", "text": "message tekst", "table": "collection tabell",
    "query": "search sok", "code": "source skript", "over": "each elements", "long": "delay varighet hold_for", "span": "delay varighet",
    "wait seconds": "delay_sec pauseSeconds", "wait minutes": "delay_minutes vent_minutter", "who": "reviewer godkjenner asked_people",
    "silence": "unanswered after_expiry", "handler": "failure_process rescueFlow", "limit seconds": "max_seconds deadlineSec",
    "test": "rule regel", "size": "most maks", "flow called": "process flyt",
    "off": "skipped inactive utkoblet", "on": "is_active i_bruk", "retries": "tries again forsok",
    "own rounds": "each for_every iterate_on para_cada", "own again": "rounds otra_vez again", "own end": "until hasta stop_when", "own most": "at_most maks",
    "own condition": "run_only_if when hvis condicion", "expected": "verify should_be forventet",
    "timeout": "deadline tidsgrense", "note": "remark merknad",
    "position": "canvas sted", "x": "col px", "y": "row py", "owner": "responsible ansvarlig", "changed": "modified endret",
    "made": "born opprettet", "wrap": "document body payload content", "flows": "items processes flyter",
    "trigger": "starter kickoff utloser", "first": "begin entry_point begynn", "meta": "header about", "connection": "credential_ref konto",
    "said when": "moment cuando naar", "values": "shared constants globals felles", "value name": "called merke", "value": "valor initial",
    "author": "editor av", "tags": "keywords merkelapper", "output": "value utdata",
}  # fmt: skip
FITTED_OPERATIONS: dict[str, str] = {
    "model": "llm.ask modelCall ai_prompt modell.fragen", "agent": "agent.run assistant agente.ia", "http": "http.request restCall",
    "send": "mail.send notify-team nachricht.senden", "read": "table.find fetchRows zeilen.lesen", "write": "row.insert updateRecord datei.speichern",
    "delete": "row.delete removeFile", "decide": "switch condition verzweigung", "loop": "for_each loop.items schleife", "wait": "delay wait_until",
    "approve": "human.approval genehmigung", "code": "script.run python-code", "shape": "transform map_fields", "subflow": "run_flow callWorkflow",
    "schedule": "cron.trigger schedule zeitplan", "webhook": "webhook http-trigger", "form": "form.submitted formulaire",
    "polling": "mailbox.poll watch_folder", "manual": "manual.start button", "event": "event.received queue-listen",
}  # fmt: skip
HELD_OPERATIONS: dict[str, str] = {
    "model": "text_generation askModel AI/Complete sporModell generare.testo llm-invoke", "agent": "autonomous_agent AssistantTask agent.loop",
    "http": "callEndpoint api.invoke HTTP/Get anropApi", "send": "post-message EmailSender sendEpost invia.messaggio slett_ikke_varsle",
    "read": "query-rows GetRecord hentRader leggi.righe search_items", "write": "create_entry SaveRow lagreRad scrivi.riga upsert.item",
    "delete": "delete_entry RemoveRow slettRad", "decide": "if_then Router velgVei scelta branch-on", "loop": "iterate ForEachItem lokke ciclo",
    "wait": "sleep pauseFor vent attesa", "approve": "approval-request HumanReview godkjenning", "code": "run_javascript CodeStep kjorSkript",
    "shape": "format-data MapFields omform aggregate.rows", "subflow": "start_subflow CallProcess kjorFlyt",
    "schedule": "timer.daily CronStart tidsplan every-interval", "webhook": "incoming.hook WebhookReceiver http_in", "form": "formTrigger skjemaSendt form-filled",
    "polling": "poll.table FolderWatcher overvakMappe", "manual": "manual_trigger ButtonPressed manuellStart",
    "event": "on_event MessageReceived hendelseMottatt",
}  # fmt: skip
FITTED_NOUNS = "passenger berth ferry cargo letter crew notice ticket claim invoice".split()
HELD_NOUNS = "weather parcel engine deck cabin booking refund pilot timetable bridge".split()
FITTED_VERBS = "Check Sort Answer Draft Compare Match Collect Count".split()
HELD_VERBS = "Inspect Weigh Prepare Summarise Announce Review File Relay".split()
FITTED_PROMPTS = (
    "You help the harbour office. Answer in two short sentences and stay friendly.",
    "Read the letter and return the most likely reason for the complaint as one word.",
    "Decide whether the item described matches the report; explain the answer briefly.",
)
HELD_PROMPTS = (
    "Sum up what the passenger wants in at most twenty words. Leave out greetings and names.",
    "Sortiere die Anfrage in eine der Gruppen Fahrplan, Gepäck, Erstattung oder Sonstiges und nenne nur die Gruppe.",
    "Schreib eine kurze Ansage für die Lautsprecher an Deck. Höchstens drei Sätze.\nKeine Abkürzungen.",
    "Classify the weather report: calm, rough or storm. If you are not sure, answer storm and say why in one sentence.",
    "Du er en hjelpsom medarbeider. Svar på norsk, kort og uten å love noe om avgangstider.",
)
FITTED_MODELS = ("fulmar-large-2", "petrel-mini-1.5", "skua-7b")
HELD_MODELS = ("gannet/chat-4", "tern-vision-3", "eider-70b-instruct", "puffin.small:v2", "auk-2026-03")
FITTED_TALK = (
    "Letter {0}, please answer it.",
    "Here is the text to work on: {0}",
    "Compare these two descriptions: {0} and {1}",
)
HELD_TALK = (
    "Incoming request:\n{0}\n\nEarlier remarks:\n{1}",
    "Question of the passenger: {0}",
    "Reise: {0}. Wünsche: {1}. Bitte in einem Satz antworten.",
)
SYLLABLES = {
    True: "ba ce di fo gu ha ki lo mu ne pa qui ro su ta".split(),
    False: "ve wo xi ya zo bre kla stu tri vor pli mon jar fe".split(),
}
STATE_WORDS = {
    True: (("active", "inactive"), ("on", "off"), (True, False)),
    False: (("live", "paused"), ("enabled", "disabled"), (1, 0), (True, False), ("running", "draft")),
}
# What a step says that has a switch: on, off.
SWITCH_WORDS: dict[bool, tuple[tuple[object, object], ...]] = {
    True: (*[(True, False)] * 4, (1, 0), ("active", "inactive"), ("an", "aus")),
    False: (*[(True, False)] * 4, (1, 0), ("activo", "inactivo"), ("afloat", "docked")),
}
# What people say of when, and the clock it means.
CLOCKS_IN_WORDS = {
    True: (("every day at 06:00", "0 6 * * *"), ("every 15 minutes", "every 900"), ("jeden Montag um 07:30", "30 7 * * 1")),
    False: (
        ("hver dag kl 07:15", "15 7 * * *"), ("weekdays at 8:40 am", "40 8 * * 1,2,3,4,5"), ("every 2 hours", "every 7200"),
        ("Tuesday and Friday at 16:00", "0 16 * * 2,5"), ("on the 1st of every month at 9am", "0 9 1 * *"),
    ),
}  # fmt: skip
DELIMITERS = {
    True: (("{{", "}}"), ("${", "}"), ("<%", "%>")),
    False: (("[[", "]]"), ("@{", "}"), ("%(", ")%"), ("<<", ">>")),
}


class Traits(NamedTuple):
    """How one made-up builder writes. ``fitted`` chooses the pools; ``words`` whether operations carry trade words;
    ``nonsense`` whether keys mean nothing."""

    fitted: bool
    words: bool
    nonsense: bool


class Language:
    """The keys, operations and texts of one builder."""

    def __init__(self, draw: random.Random, traits: Traits) -> None:
        self.draw, self.traits = draw, traits
        fitted = traits.fitted
        self._keys = FITTED_KEYS if fitted else HELD_KEYS
        self._operations = FITTED_OPERATIONS if fitted else HELD_OPERATIONS
        self.nouns = FITTED_NOUNS if fitted else HELD_NOUNS
        self.verbs = FITTED_VERBS if fitted else HELD_VERBS
        self.prompts = FITTED_PROMPTS if fitted else HELD_PROMPTS
        self.talk = FITTED_TALK if fitted else HELD_TALK
        self.models = FITTED_MODELS if fitted else HELD_MODELS
        self.states = draw.choice(STATE_WORDS[fitted])
        self.open, self.close = draw.choice(DELIMITERS[fitted])
        self.kinds: dict[str, str] = {}
        self._chosen: dict[str, str] = {}
        self._code = draw.choice(("dotted", "number", "word"))
        self._case = draw.choice(("as is", "as is", "camel", "snake"))
        self._seen: set[str] = set()

    def key(self, concept: str) -> str:
        """The builder's key for a concept; no two keys are the same word where they may meet."""
        if concept not in self._chosen:
            for _ in range(20):
                word = self._syllables(2) if self.traits.nonsense else self.draw.choice(self._keys[concept].split())
                if word not in self._chosen.values():
                    break
            self._chosen[concept] = word
        return self._chosen[concept]

    def has_key(self, concept: str) -> bool:
        return concept in self._chosen

    def add_key(self, concept: str, draw: random.Random) -> None:
        """Choose the key of a concept by draws of its own, so that all others stay as they are."""
        words = self._keys[concept].split()
        free = [word for word in words if word not in self._chosen.values()] or [f"{words[0]}2"]
        nonsense = ""
        while not nonsense or nonsense in self._chosen.values():
            nonsense = "".join(draw.sample(SYLLABLES[self.traits.fitted], 3))
        self._chosen[concept] = nonsense if self.traits.nonsense else draw.choice(free)

    def _syllables(self, least: int) -> str:
        return "".join(self.draw.sample(SYLLABLES[self.traits.fitted], self.draw.choice((least, least + 1))))

    def operation(self, kind: str) -> str:
        """The builder's word for a kind of step or trigger."""
        if kind not in self.kinds:
            self.kinds[kind] = self.draw.choice(self._operations[kind].split()) if self.traits.words else self._opaque()
        return self.kinds[kind]

    def _opaque(self) -> str:
        while True:
            made = {
                "dotted": f"{self._syllables(1)}.{self._syllables(1)}",
                "number": f"{self.draw.choice('tkb')}{self.draw.randrange(10, 99)}",
                "word": self._syllables(2).capitalize() + self._syllables(1).capitalize(),
            }[self._code]
            if made not in self.kinds.values():
                return made

    def title(self) -> str:
        """A name for a step or flow, never the same twice."""
        while True:
            name = f"{self.draw.choice(self.verbs)} {self.draw.choice(self.nouns)} {self.draw.choice(self.nouns)}"
            if self.draw.random() < 0.2:
                name += f" {self.draw.randrange(2, 9)}"
            if name not in self._seen:
                self._seen.add(name)
                return name

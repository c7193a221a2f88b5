# General trade words of automation in eight languages (English, German, French, Spanish, Norwegian, Dutch, Italian,
# Portuguese) and what they hint at. No word belongs to one product. Words are without accents, in lower case; a word
# that ends in * also fits longer ones.
"""What the words of an operation hint at: kinds of steps, triggers, effects."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache
from typing import NamedTuple, cast, get_args

from zeitbuch.core.model.kinds import KINDS
from zeitbuch.core.model.records import Effect, Modality, StepKind, TriggerKind
from zeitbuch.readers.dialects.step_facts import METHOD_EFFECTS

# hint -> ((weight, words), ...). A hint is a kind of step, "on:" and a kind of trigger, or "~" and a helper that only
# shifts others (see _combined).
HINTS: dict[str, tuple[tuple[float, str], ...]] = {
    "model": (
        (3, "llm model* modell* modele* modelo* completion* prompt* inference* inferenz* inferencia* generat* generier* generer* "
            "genera* gerar* ask spor frag* vraag* pergunt* pregunt* chiedi* summar* zusammenfass* resum* oppsummer* samenvat* riassum* "
            "translat* ubersetz* uebersetz* traduc* traduir* traduz* oversett* vertaal* draft rewrite* classif* klassifi* extract* "
            "extrahier* extrair* extraer* extraire estrai* trekk* transcri* transkri* vision caption* rephrase* sentiment* "
            "moderat* speak* speech* synth* ocr*"),
        (1.5, "ai ki ia think* answer* antwort* repond* respond* label* detect* chat reason* describe* compose* language text-generation"),
    ),
    "agent": ((5, "agent* agente* assistant* assistent* asistente* assistente* autonom* orchestrator*"),),
    "embed": ((5, "embed* einbett* plongement* incrust* vectoriz* vectoris* vektorisier* innbygg* incorpor*"), (2.5, "encode* encoding"),),
    "retrieve": (
        (4, "retriev* rag vectorsearch knowledge wissen* connaissance* conocimiento* kunnskap* kennis conoscenza* conhecimento* semantic* "
            "similar* ahnlich* aehnlich* nearest rerank*"),
        (2, "vector* vektor* vecteur* passage* abruf* recuper* index*"),
    ),
    "memory": ((5, "memory memories gedachtnis* gedaechtnis* memoire* memoria* hukommelse* geheugen* minne buffer window"),),
    "tool": ((2, "money payment*"), (3, "tool* werkzeug* outil* herramienta* verktoy* gereedschap* strument* ferrament* function-tool mcp"),),
    "parse": (
        (3, "pars* pdf* analys* zerleg* chunk* split-text splitter* tokeniz* unpack* decode* outputparser structured* stukk* "
            "extract-text lese-text document-reader csv xml"),
    ),
    "decide": (
        (4, "if ifelse decide* decision* condition* kondition* bedingung* switch* router* route* branch* verzweig* weiche* entscheid* "
            "aiguillage* embranchement* decid* condicion* condicao* condizion* bifurc* velg* valg* betingelse* beslut* keuze* "
            "voorwaarde* beslis* scelt* escolh* elegir* choose* pick choice* choix* choisir* wahl* waehl* wenn si gateway* case cases "
            "exclusive* alternative* fork-if filter-gate"),
    ),
    "loop": (
        (4, "loop* foreach for-each each iterat* iterer* schleife* jedes boucle* chaque bucle* cada lokke* loekke* hver lus herhal* ciclo* "
            "repeat* wiederhol* repet* gjenta* while until map-each batch-loop"),
    ),
    "parallel": ((4, "parallel* fork* gleichzeitig* simultan* paralel* fanout samtidig* tegelijk* concurrent* at-once both"),),
    "join": ((4, "join* merg* zusammen zusammenfuhr* zusammenfuehr* fusion* unir* union sammenfo* samenvoeg* unisci* juntar gather* combine*"),),
    "guard": ((4, "try trycatch guard* attempt* versuch* essayer essai intent* tentativ* forsok* probeer* scope protect* shield*"),),
    "wait": ((4, "wait* delay* sleep* pause* wart* verzoger* verzoeger* attend* attente* delai* esper* retras* vent vente* wacht* attesa* aspett* "
                 "aguard* retard* timer-wait hold"),),
    "approve": (
        (4, "approv* genehmig* freigab* freigeb* approb* aprob* aprova* godkjenn* goedkeur* approva* human* mensch* humain* humano* menneske* "
            "person* manual-task usertask user-task signoff sign-off review* consent*"),
    ),
    "http": (
        (3, "http* rest restcall api* endpoint* graphql soap url webcall httprequest apirequest invoke-url aanroep-api"),
        (1.5, "request* anfrage* requete* peticion* foresporsel* verzoek* richiesta* pedido* web call service"),
    ),
    "code": ((4, "code* script* javascript python js py lambda* snippet* skript* kode guion* codigo* codice* expression* run-code eval*"),),
    "shape": (
        (3, "transform* map mapper mapping set setvar shape* format* filter* aggregat* aggreg* umform* wandel* zuordn* transfor* "
            "omdann* omvorm* trasform* filtr* sort* sortier* group-by convert* konvertier* limit rename* variable* variavel* "
            "edit* compute* calculat* berechn* rechne* template* pick-fields merge-fields flatten* assign* zuweis* date math* dedup* reshape*"),
    ),
    "read": (
        (3, "get gets read* fetch* lookup* find* query* list lists listing liste lister search* load* download* select* retrieve-row les* lese* lesen hent* hol* suche* such "
            "find-rows abfrag* lire obtenir cherch* rechercher leer obten* busca* buscar sok* soek* zoek* ophalen haal* leggi* cerca* ler obter "
            "pesquis* export* inspect* count"),
        (0.8, "table* row* sheet* record* database db sql file* store crm drive calendar tabell* tabelle* tableau* tabla* tabel* "
              "datei* fichier* archivo* fil bestand* spreadsheet* storage ftp bucket"),
    ),
    "write": (
        (3, "write* add adds create* insert* update* append* save* upload* upsert* change* put store-row book* schreib* anleg* hinzufug* hinzufueg* "
            "speicher* aktualisier* ander* aender* ecrire ajout* creer enregistr* modifi* escrib* anad* agregar crear guardar "
            "actualiz* skriv* legg* opprett* lagre* oppdater* schrijf* voeg* maak* bewaar* wijzig* scrivi* aggiung* crea* salva* escrev* adicion* "
            "criar atualiz* log record-entry register* edit-row publish-row import*"),
        (1, "store persist*"),
    ),
    "send": (
        (3, "send* notif* alert* publish* broadcast* reply* forward* send-mail versend* senden benachricht* melde* envoy* notifi* envi* enviar "
            "publi* varsle* stuur* verstuur* verzend* invia* avvis* notifica* say tell page ring emit* deliver*"),
        (1.4, "mail* email* e-mail sms message* nachricht* courriel* correo* mensaj* melding* bericht* messagg* mensage* post* "
              "pager* text-message push letter* brief* notice* signal*"),
    ),
    "delete": ((4, "delet* remov* losch* loesch* entfern* supprim* efface* elimin* borra* slett* fjern* verwijder* cancella* exclu* apag* purge* drop trash*"),),
    "subflow": (
        (4, "subflow* sub-flow subworkflow* subprocess* callflow runflow execute-flow unterablauf* teilablauf* sousflux* subflujo* delflyt* "
            "deelstroom* sottoflusso* subfluxo* call-activity child-flow"),
        (2, "flow* workflow* ablauf* flux flujo* flyt* stroom* flusso* fluxo* process* prozess* playbook*"),
    ),
    "end": ((4, "end ends stop* terminat* finish* halt* exit* ende beend* abbruch fin arret* terminer parar detener slutt* avslutt* einde eindig* fine "
                "ferma* fim return*"),),
    "note": ((4, "note* comment* kommentar* notiz* remarque* nota* notat* sticky* annotation* opmerking* anmerk* memo"),),
    "group": ((4, "group gruppe section frame lane abschnitt groupe grupo gruppo groep container"),),
    "on:schedule": ((5, "cron* schedul* zeitplan* planif* programad* tidsplan* pianific* agend* planning clock* uhr* interval* intervall* timer* "
                        "horloge* reloj* klokke* klok orologio* relogio* daily weekly hourly recurr* calendar-time timetable*"),),
    "on:webhook": ((5, "webhook* hook* incoming-http httptrigger http-in inbound* rueckruf* callback*"),),
    "on:polling": ((5, "poll* abruf-neu watch* overvak* uberwach* ueberwach* surveill* vigila* bewaak* sorvegl* monitor* check-new"),),
    "on:form": ((5, "form* formular* formulaire* skjema* formulier* modulo* submission* submitted questionnaire*"),),
    "on:chat": ((4, "chat* conversation* gesprach* gespraech* samtale* gesprek* dialog* unterhaltung*"),),
    "on:manual": ((5, "manual* manuell* manuel* button* knopf* bouton* boton* knapp* knop* pulsante* botao* by-hand click* handmatig* hand"),),
    "on:fault": ((5, "onerror error-trigger errortrigger fault* flow-failed onfail*"),),
    "on:call": ((4, "called called-by-flow when-called executed-by-flow subflow-start flow-input opgeroepen aufgerufen*"),),
    "on:tool-call": ((5, "tool-trigger mcp-trigger tool-call toolcall on-tool-call"),),
    "on:event": (
        (3, "event* ereignis* evenement* evento* hendelse* gebeurtenis* subscribe* queue* topic* stream* listen* mqtt* pubsub*"),
        (2, "new received receive* incoming arriv* neu eingang* nouveau* nuevo* ny nye nieuw* nuovo* novo* when wenn-neu created"),
    ),
    "~trigger": ((3, "trigger* auslos* ausloes* declench* dispar* disparador* utloser* utloeser* innesc* gatilho* start* source on"),),
}  # fmt: skip

TRIGGER_WORDS = HINTS["~trigger"][0][1]
EVENT_WORDS = " ".join(
    words for hint in HINTS if hint.startswith("on:") for _, words in HINTS[hint]
)  # of what sets a flow off
_KINDS = set(get_args(StepKind))
_TRIGGERS = set(get_args(TriggerKind))
_MODALITY: tuple[tuple[str, Modality], ...] = (
    ("vision image-in picture* bild* imagen* see look photo*", "vision"),
    ("speak* speech* voice* tts stimme* voix voz stemme* spraak* sprach* vocal* sintesi*", "speech"),
    ("transcri* transkri* stt dictat* diktat*", "transcription"),
    ("draw* paint* imagegen image* illustrat* zeichn*", "image"),
    ("embed* einbett* plongement* incrust*", "embedding"),
)
_INCOMING = "incoming inbound received arriv* eingehend* entrant* entrada innkommende inkomend* arrivo"
_WEB = "web http https api rest url endpoint* request*"
_SPEND = "pay* refund* charge* purchase* order-pay zahl* bezahl* erstatt* payer rembours* pagar pago* reembols* betal* refundi* paga* money invoice-pay spend*"
_CAMEL = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")
_SPLIT = re.compile(r"[^a-z0-9]+")


class Guess(NamedTuple):
    """What an operation may be: ``hint`` is a kind, or a kind of trigger after "on:"."""

    hint: str
    score: float

    @property
    def trigger(self) -> TriggerKind | None:
        return cast(TriggerKind, self.hint[3:]) if self.hint.startswith("on:") else None

    @property
    def kind(self) -> StepKind | None:
        return None if self.hint.startswith("on:") else cast(StepKind, self.hint)


def plain_word(text: str) -> str:
    """Lower case without accents; ligatures and special letters spelled out."""
    text = text.replace("ø", "o").replace("Ø", "O").replace("ß", "ss").replace("æ", "ae").replace("å", "a")
    return "".join(
        letter for letter in unicodedata.normalize("NFKD", text) if not unicodedata.combining(letter)
    ).lower()


@lru_cache(maxsize=20_000)
def words_of(text: str) -> tuple[str, ...]:
    """The words of an operation, key or label: 'mailBox.send_v2' -> mail, box, send."""
    spaced = _CAMEL.sub(" ", text[:200])
    parts = [re.sub(r"\d+$", "", item) for item in _SPLIT.split(plain_word(spaced))]
    return tuple(word for word in parts if word and word not in ("v", "node", "step", "action", "task", "block"))


def _compile_words(words: str) -> tuple[frozenset[str], tuple[str, ...]]:
    listed = words.split()
    return frozenset(word for word in listed if not word.endswith("*")), tuple(
        word[:-1] for word in listed if word.endswith("*")
    )


_TABLE = [(hint, weight, *_compile_words(words)) for hint, rows in HINTS.items() for weight, words in rows]


def word_fits(words: tuple[str, ...], listed: str) -> bool:
    """Whether a word, or two neighbours joined by a hyphen, stands in a list of words."""
    exact, stems = _list_words(listed)
    pairs = ["-".join(words[index : index + 2]) for index in range(len(words) - 1)]
    return any(word in exact or (len(stems) > 0 and word.startswith(stems)) for word in (*words, *pairs))


@lru_cache(maxsize=200)
def _list_words(words: str) -> tuple[frozenset[str], tuple[str, ...]]:
    return _compile_words(words)


@lru_cache(maxsize=20_000)
def guess_kinds(operation: str) -> tuple[Guess, ...]:
    """What an operation may be, the likeliest first; empty when no word hints at anything."""
    words = words_of(operation)
    candidates = [*words, *["-".join(words[index : index + 2]) for index in range(len(words) - 1)]]
    candidates += ["".join(words[index : index + 2]) for index in range(len(words) - 1)]
    scores: dict[str, float] = {}
    for position, word in enumerate(candidates):
        place = 1.0 + 0.05 * min(position, len(words))  # the later word is mostly the verb or the head
        for hint, weight, exact, stems in _TABLE:
            if word in exact or word.startswith(stems):
                scores[hint] = max(scores.get(hint, 0.0), weight * place)
    return _combine_scores(scores, words)


def _combine_scores(scores: dict[str, float], words: tuple[str, ...]) -> tuple[Guess, ...]:
    """Words together mean more than each alone: 'mail trigger' is no sending, 'chat model' no trigger."""
    mapping = dict(scores)
    start = mapping.pop("~trigger", 0.0)
    if start:
        _weigh_trigger_word(words, mapping, start)
    _weigh_incoming(words, mapping)
    _weigh_events(mapping)
    _weigh_actions(words, mapping, start)
    found = [Guess(name, round(value, 3)) for name, value in mapping.items() if value > 0]
    return tuple(sorted(found, key=lambda g: (-g.score, g.hint)))


def _weigh_trigger_word(words: tuple[str, ...], mapping: dict[str, float], start: float) -> None:
    events = [name for name in mapping if name.startswith("on:")]
    for name in events:
        mapping[name] += 4
    if not events:
        if mapping.get("http", 0) > 0:
            mapping["on:webhook"] = 5.0
        elif mapping.get("model", 0) >= 3 or mapping.get("agent", 0) > 0:
            mapping["on:event"] = start * 0.5
        else:
            mapping["on:event"] = start + (2.0 if len(words) > 1 else 0.0)
    if len(words) == 1:
        mapping["on:manual"] = max(mapping.get("on:manual", 0.0), 3.5)


def _weigh_incoming(words: tuple[str, ...], mapping: dict[str, float]) -> None:
    """What comes in over the web is a call from outside."""
    if "on:event" in mapping and word_fits(words, _INCOMING) and word_fits(words, _WEB):
        mapping["on:webhook"] = max(mapping.get("on:webhook", 0.0), 5.0)


def _weigh_events(mapping: dict[str, float]) -> None:
    verbs = max(mapping.get("read", 0), mapping.get("write", 0), mapping.get("send", 0), mapping.get("delete", 0))
    if "on:chat" in mapping and (
        mapping.get("model", 0) >= 2.9 or mapping.get("send", 0) >= 2.9 or "memory" in mapping
    ):
        mapping["on:chat"] -= 3
    if mapping.get("read", 0) >= 3 and "retrieve" in mapping:
        mapping["retrieve"] += 2
    if verbs >= 3 and mapping.get("on:event", 0) < 4 and "on:polling" not in mapping:
        for name in ("on:event", "on:form"):
            if name in mapping:
                mapping[name] -= 2.5
    if "on:polling" in mapping and mapping.get("send", 0) < 3:
        mapping["on:polling"] += 1


def _weigh_actions(words: tuple[str, ...], mapping: dict[str, float], start: float) -> None:
    _weigh_verbs(mapping)
    if "model" in mapping and "agent" in mapping:
        mapping["model"] -= 2
    if "tool" in mapping and "agent" in mapping and words and words[-1].startswith("tool"):
        mapping["tool"] += 3
    if "model" in mapping and mapping.get("memory", 0) >= 5:
        mapping["model"] -= 3
    if mapping.get("on:fault", 0) > 0 and not start:
        mapping["on:fault"] -= 2


def _weigh_verbs(mapping: dict[str, float]) -> None:
    if mapping.get("write", 0) >= 3 or mapping.get("read", 0) >= 3:
        mapping["subflow"] = mapping.get("subflow", 0) - 1.5
        if "shape" in mapping:
            mapping["shape"] -= 0.3
    if "http" in mapping and mapping.get("http", 0) >= 3:
        for name in ("read", "write", "send"):
            if name in mapping:
                mapping[name] -= 1.2


def modality_of(operation: str) -> Modality:
    """The modality that the words of a model operation name; text when they name none."""
    words = words_of(operation)
    return next((name for listed, name in _MODALITY if word_fits(words, listed)), "text")


_CHANGING = frozenset({"POST", "PUT", "PATCH", "DELETE"})  # methods that are a word of operations


def effect_of(kind: StepKind, operation: str) -> Effect:
    """What a step of this kind and operation may do outside."""
    words = words_of(operation)
    if kind in ("tool", "http", "write", "send", "other") and word_fits(words, _SPEND):
        return "spend"
    methods = [word.upper() for word in words if word.upper() in _CHANGING] if kind == "http" else []
    if methods:
        return METHOD_EFFECTS[methods[0]]
    if kind in ("tool", "http", "code"):
        for guess in guess_kinds(operation):
            if guess.hint in ("send", "delete", "write") and guess.score >= 1.5:
                return KINDS[guess.hint].effect
    return KINDS[kind].effect


def known_hints() -> set[str]:
    """All hints but the helpers, for the test that they are kinds of the model."""
    return {name for name in HINTS if not name.startswith("~")}


assert known_hints() <= _KINDS | {f"on:{item}" for item in _TRIGGERS}

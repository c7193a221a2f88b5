# What people call the columns of usage tables, in a dozen languages: words that stand in heads, from dictionaries of accounting and
# statistics. A word alone decides nothing: values and the names of the estate weigh more.
"""Words in the heads of usage tables."""

from __future__ import annotations

import re

# Canonical column -> words; a trailing * takes any ending. The first words are the surest.
WORDS: dict[str, str] = {
    "time": "time timestamp datetime when started start at zeit zeitpunkt zeitstempel uhrzeit beginn hora momento fecha heure horodatage ora tidspunkt tijd tijdstip czas "
    "horario created occurred ts",
    "day": "day date datum tag dato data día dia jour giorno dag dzień dzien",
    "arrived": "arrived ingested received loaded imported exported stored inserted written collected eingegangen empfangen geladen importiert exportiert gespeichert recibido "
    "importado reçu importé ricevuto importato mottatt ontvangen otrzymano recebido",
    "environment": "environment env umgebung stage entorno environnement ambiente miljø omgeving środowisko srodowisko deployment",
    "host": "host tenant account anlage mandant konto instanz cuenta compte hôte hote conto klient organisation organization org server",
    "flow": "flow workflow automation ablauf prozess process scenario szenario flujo proceso flux processus flusso processo przepływ przeplyw fluxo "
    "arbeitsablauf flyt stroom pipeline automatisierung automatización automatisation automazione",
    "run": "run execution lauf vorgang durchlauf exec ejecución ejecucion exécution esecuzione wykonanie kjøring session invocation instance uitvoering execução",
    "step": "step node activity schritt aktivität aktivitet task aufgabe paso actividad étape etape passo fase krok stap trin steg action operation",
    "feature": "feature team department kostenstelle abteilung projekt project cost_centre centre center funktion funktionalität equipo équipe reparto product produkt",
    "meter": "meter sku article artikel zähler zaehler tariff tarif tarifa contador compteur contatore måler licznik",
    "model": "model modell modelo modèle modele modello engine llm model_name motor moteur",
    "status": "status state result ergebnis outcome zustand estado statut état stato wynik resultado résultat resultaat",
    "currency": "currency währung waehrung moneda devise valuta waluta moeda",
    "calls": "calls count requests anzahl aufrufe anfragen llamadas peticiones appels requêtes chiamate richieste kall zapytania verzoeken chamadas menge quantity",
    "tokens_in": "input prompt eingabe rein ein in entrada entrée entree ingresso inn wejście wejscie invoer given sent",
    "tokens_out": "output completion answer ausgabe antwort raus aus out salida sortie uscita ut wyjście wyjscie uitvoer generated received response saída",
    "tokens_cached": "cached cache zwischengespeichert caché",
    "tokens_reasoning": "reasoning thinking denken überlegung razonamiento raisonnement ragionamento",
    "characters": "characters chars zeichen caracteres caractères caratteri tegn znaki tekens letters",
    "images": "images pictures bilder imágenes imagenes immagini bilde obrazy afbeeldingen imagens",
    "pages": "pages seiten páginas paginas pagine sider strony",
    "sound": "audio sound ton sonido son suono lyd dźwięk geluid",
    "cost": "cost kosten betrag amount price charge coste costo coût cout importe montant importo kostnad koszt kwota bedrag custo spend spent preis eur usd gbp nok chf kr",
    "duration": "duration dauer latency elapsed duración duracion durée duree durata varighet czas_trwania duur seconds sekunden ms runtime",
}
# Words that say nothing of what a column is.
FILLERS = frozenset(
    "name names title titel id nr no number nummer of the de del du da do di la le el der die das von used usado utilisé verwendet total gesamt log event "
    "value wert nombre nom nome naam navn nazwa utc y et und and token tokens".split()
)
_CAMEL = re.compile(r"(?<=[a-z0-9])(?=[A-Z])")
_SPLIT = re.compile(r"[\W_]+")
# Units in heads -> by how much a number is taken.
UNITS: tuple[tuple[re.Pattern[str], str, float], ...] = (
    (re.compile(r"(?i)[(\[]\s*(?:k|tsd\.?|in thousands|thousand|tausend|000s?|miles|milliers|migliaia)\s*[)\]]|\b(?:in thousands|in tsd\.?)"), "thousand", 1000.0),
    (re.compile(r"(?i)[(\[]\s*(?:m|mio\.?|millions?|millionen)\s*[)\]]"), "million", 1_000_000.0),
    (re.compile(r"(?i)(?:[(\[]\s*|_|\b)(?:ct|cents?|centimes|øre)\s*[)\]]?$"), "cent", 0.01),
    (re.compile(r"(?i)(?:[(\[]\s*|_|\b)(?:ms|millis|milliseconds|millisekunden)\s*[)\]]?$"), "millisecond", 0.001),
    (re.compile(r"(?i)[(\[]\s*(?:min|minutes|minuten)\s*[)\]]"), "minute", 60.0),
)  # fmt: skip
CURRENCIES: tuple[tuple[re.Pattern[str], str], ...] = tuple(
    (re.compile(rf"(?i)(?<![a-z])(?:{words})(?![a-z])"), code)
    for words, code in (
        ("eur|euros?|€", "EUR"), ("usd|us\\$", "USD"), ("gbp|£", "GBP"), ("chf", "CHF"), ("nok", "NOK"), ("sek", "SEK"), ("dkk", "DKK"),
        ("pln|zł", "PLN"), ("czk", "CZK"), ("jpy|¥", "JPY"),
    )
)  # fmt: skip


def head_words(head: str) -> tuple[str, ...]:
    """The words of a head, in small letters."""
    return tuple(word for word in _SPLIT.split(_CAMEL.sub(" ", head).casefold()) if word)


def word_score(head: str, column: str) -> float:
    """How well a head names a column of the record: 0 to 1. A head that is the word alone says most."""
    known = _KNOWN[column]
    words = [word for word in head_words(head) if word not in FILLERS or word in known] or list(head_words(head))
    hits = [word for word in words if word in known]
    if not hits:
        long = [
            word
            for word in words
            if len(word) > 5 and any(len(one) > 3 and (word.startswith(one) or word.endswith(one)) for one in known)
        ]
        return 0.5 / len(words) if long else 0.0
    return len(hits) / len(words) * (1.0 if len(words) == 1 else 0.9) if len(words) else 0.0


_KNOWN: dict[str, frozenset[str]] = {name: frozenset(words.casefold().split()) for name, words in WORDS.items()}

"""The language of texts, by name."""

from __future__ import annotations

import pytest

from zeitbuch.core.pricing.language_names import name_languages


@pytest.mark.parametrize(
    ("names", "text"),
    [
        (("English",), "Read the letter and return the most likely reason for the complaint as one word."),
        (("German",), "Lies den Brief und gib den wahrscheinlichsten Grund der Beschwerde mit einem Wort zurück."),
        (("French",), "Lisez la lettre et donnez la raison la plus probable de la plainte en un seul mot."),
        (("Spanish",), "Lee la carta y devuelve el motivo más probable de la queja en una sola palabra, por favor."),
        (("Italian",), "Leggi la lettera e restituisci il motivo più probabile del reclamo con una sola parola."),
        (
            ("Portuguese",),
            "Leia a carta e devolva o motivo mais provável da reclamação em uma só palavra, por favor não explique.",
        ),
        (("Dutch",), "Lees de brief en geef de meest waarschijnlijke reden van de klacht in één woord, niet meer."),
        (("Swedish",), "Läs brevet och ange den mest sannolika orsaken till klagomålet med ett enda ord, inte mer."),
        (
            ("Norwegian", "Swedish"),
            "Les brevet og gi den mest sannsynlige grunnen til klagen med ett ord, ikke noe mer av det.",
        ),
        (
            ("Danish",),
            "Læs brevet og angiv den mest sandsynlige grund til klagen med ét ord, og ikke noget andet af det.",
        ),
        (
            ("Polish",),
            "Przeczytaj list i podaj najbardziej prawdopodobny powód skargi jednym słowem, nie więcej niż to.",
        ),
        (("Czech",), "Přečti dopis a uveď nejpravděpodobnější důvod stížnosti jedním slovem, a to je vše co je třeba."),
        (("Finnish",), "Lue kirje ja anna valituksen todennäköisin syy yhdellä sanalla, eikä mitään muuta kuin se."),
        (("Turkish",), "Mektubu oku ve şikayetin en olası nedenini tek bir kelimeyle ver, başka bir şey yazma lütfen."),
        (
            ("Hungarian",),
            "Olvasd el a levelet, és add meg a panasz legvalószínűbb okát egy szóval, nem többel, ha lehet.",
        ),
        (
            ("Romanian",),
            "Citește scrisoarea și dă cel mai probabil motiv al plângerii într-un singur cuvânt, nu mai mult, pentru că este clar.",
        ),
        (("Vietnamese",), "Hãy đọc thư và cho biết lý do có thể nhất của khiếu nại bằng một từ, không được thêm."),
        (("Greek",), "Διαβάστε την επιστολή και δώστε τον πιθανότερο λόγο του παραπόνου με μία λέξη."),
        (
            ("Japanese",),
            "手紙を読んで、苦情の最も可能性の高い理由を一語で返してください。それ以外は書かないでください。お願いします。",
        ),
        (
            ("Chinese",),
            "请阅读这封信，用一个词返回最可能的投诉原因，不要写其他任何内容，也不要解释，只需要返回一个词就可以了，谢谢你。",
        ),
        (("Cyrillic script",), "Прочитайте письмо и верните наиболее вероятную причину жалобы одним словом."),
        ((), "lorem ipsum dolor sit amet consectetur adipiscing elit sed eiusmod tempor"),
        ((), "Hei!"),
    ],
)
def test_languages_are_named_or_left_open(names: tuple[str, ...], text: str) -> None:
    assert name_languages(text) == names

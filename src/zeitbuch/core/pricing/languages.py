# Which language a line of text is in, as far as token counts need it: tokenizers know some languages far better than
# others. Small words and letters that only one language uses decide; without any, the line counts as English.
"""Language of a line, for the token estimator."""

from __future__ import annotations

_WORDS: dict[str, str] = {
    "en": (
        "the of and to in is that for it with as are this you be or not from your have by on an at which will can "
        "if when we all was but they what one please do has our their there use using a no so me my i us"
    ),
    "de": (
        "der die das und ist nicht ein eine einen zu den mit für von auf sie wir werden wird sind im dem des auch "
        "oder bitte wenn keine bei haben als aus durch ihr ihre diese dieser ich es sich an noch kann"
    ),
    "fr": (
        "le la les de des et est un une pas pour dans sur vous que qui ne par avec ce cette sont votre au aux du "
        "ou nous il elle être été plus veuillez si je mon notre merci"
    ),
    "es": (
        "el la los las de del y es un una no para en por con que se su al lo como más está este esta son ha sido "
        "desde usted si pero página tiene puede favor mi gracias"
    ),
    "it": (
        "il lo la gli le di del della e è un una non per in con che si sono dei delle al alla questo questa da "
        "nel nella più sei stato hai anche ogni come il ho mi grazie"
    ),
    "pl": (
        "nie się w z i na do jest że to dla od przez jako oraz ten ta tego lub po aby tylko był było proszę może "
        "są został jeśli czy za ze mnie"
    ),
    "cs": (
        "a se na je v že to pro s z do nebo není byl být jako jsou ale od při tento této které už jen ve byla "
        "prosím lze pokud za po mi jsem"
    ),
    "fi": (
        "ja on ei se että tai ole joka tämä tämän mutta kun jos voi oli ovat myös sekä niin nyt sinun sitä tästä "
        "tähän olla kuin minun hyvä kiitos"
    ),
    "tr": (
        "ve bir bu için ile de da olarak değil daha gibi ne var çok en her olan kadar veya sonra lütfen tüm bunu "
        "mı mi yok ben"
    ),
    "vi": (
        "của và là không có được cho một các với này đã trong để bạn những khi đến từ như người hoặc tôi thể phải "
        "đang vào"
    ),
    "other": (
        "o os as uma não com em para você mais foi pelo seu sua het een van niet voor met zijn wordt maar deze "
        "och att det som är inte för med av till ett den og ikke er på til fra har som vil az és nem hogy egy "
        "vagy este nu pentru din sau care cu"
    ),
}
_LETTERS: dict[str, str] = {
    "de": "ß", "fr": "èêàœç", "es": "ñ¿¡", "it": "ìò", "pl": "łżźśćąęń", "cs": "řěůčďťň", "tr": "ğış",
    "vi": "đơưạảấầẩẫậắằẳẵặẹẻẽếềểễệỉịọỏốồổỗộớờởỡợụủứừửữựỳỵỷỹ", "fi": "", "other": "õãåøæőű",
}  # fmt: skip
LATIN = tuple(_WORDS)

WORDS: dict[str, tuple[str, ...]] = {}
for _language, _text in _WORDS.items():
    for _word in _text.split():
        WORDS[_word] = (*WORDS.get(_word, ()), _language)
_KNOWN = frozenset(WORDS)
_FOREIGN = _KNOWN - frozenset(_WORDS["en"].split())
LETTERS: dict[str, str] = {letter: language for language, letters in _LETTERS.items() for letter in letters}
_MARKS = frozenset(LETTERS)


def language_of(line: str, words: list[str]) -> str:
    """One of LATIN. ``words`` are the words of the line in lower case."""
    plain = line.isascii()
    if plain and _FOREIGN.isdisjoint(words):
        return "en"  # see ``neutral``
    score: dict[str, float] = {}
    known = _KNOWN.intersection(words)
    _score_words(known, score)
    if not plain:
        _score_letters(line, score)
    if not score or max(score.values()) < 0.5:
        return "en"
    # Of languages alike the first by name: the order of a set differs from process to process.
    return max(sorted(score), key=lambda k: (score[k], k == "en"))


def _score_words(known: frozenset[str], score: dict[str, float]) -> None:
    for word in sorted(known):
        found = WORDS[word]
        for language in found:
            # A letter alone may as well be the name of something.
            score[language] = score.get(language, 0.0) + (1.0 if len(word) > 1 else 0.3) / len(found)


def _score_letters(line: str, score: dict[str, float]) -> None:
    for mark in sorted(_MARKS.intersection(line)):
        score[LETTERS[mark]] = score.get(LETTERS[mark], 0.0) + 1.5
    if "ä" in line and "ß" not in line and "ü" not in line:
        score["fi"] = score.get("fi", 0.0) + 1.0


def is_neutral(chunk: str) -> bool:
    """Whether nothing in a piece of a line speaks for another language than English. A line of such pieces is English."""
    return chunk.isascii() and _FOREIGN.isdisjoint(chunk.lower().split())


_TRADITIONAL = frozenset(
    "國們個來說時對這會為學過還後點開關電動車與從樣經現實發長問間門見應該無與當將請選擇檔頁網設碼帳號變更稱錄圖單參資訊顯權圍據東買賣價錢書報張寫讀語認識話題記錯誤導"
)
_SIMPLIFIED = frozenset(
    "国们个来说时对这会为学过还后点开关电动车与从样经现实发长问间门见应该无与当将请选择档页网设码账号变更称录图单参资讯显权围据东买卖价钱书报张写读语认识话题记错误导"
)


def is_traditional(text: str) -> bool:
    """Whether Chinese text is written in traditional characters."""
    found = set(text)
    return len(found & (_TRADITIONAL - _SIMPLIFIED)) > len(found & (_SIMPLIFIED - _TRADITIONAL))

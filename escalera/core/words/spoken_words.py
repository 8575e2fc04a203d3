"""Words as they are sung: syllables, which of them are stressed, what they sound like.

English words are looked up; what is not found, and every other language, is divided by rule, and by the patterns of hyphenation of
its language. What a person corrects comes first, and is written as the word with hyphens, its stressed syllables in capitals.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from functools import cache, lru_cache

from escalera.core.words.pronouncing import by_syllable, phones_of, rhyme_of, stress_of
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass

LANGUAGES = {
    "en": "English", "de": "German", "fr": "French", "es": "Spanish", "it": "Italian", "nl": "Dutch", "pt": "Portuguese",
}  # fmt: skip
ENGLISH = "en"
MAX_WORD = 60
YOURS, TABLE, RULE = "set by hand", "looked up", "by rule"
VOWEL_GROUP = re.compile(r"[aeiouyàâäáãåæèéêëìíîïòóôöõøœùúûüýÿ]+")
SILENT_END = re.compile(r"(?<=[^aeiouy])(e|es|ed)$")
SPLIT_PAIRS = ("ia", "io", "iu", "eo", "ua", "uo", "ue", "ea", "oe", "yi", "ie", "ui")
NO_HIATUS = re.compile(r"(?:[tscg]i(?:on|a|ou)|qu|gu[ei]|ie[vf])")
# small words that lean on their neighbours, whatever a table says
WEAK = frozenset(
    [
     "a", "an", "the", "of", "to", "and", "in", "on", "at", "by", "for", "from", "with", "as", "or", "but", "nor", "so", "is", "am",
     "are", "was", "were", "be", "been", "my", "your", "his", "her", "its", "our", "their", "me", "you", "he", "she", "it", "we", "us",
     "them", "they", "i", "if", "than", "that", "this", "these", "those", "has", "have", "had", "do", "does", "did", "can", "could",
     "will", "would", "shall", "should", "may", "might", "must", "there", "when", "while", "till", "not", "no", "'cause", "'til",
     "'bout", "i'm", "you're", "we're", "they're", "he's", "she's", "it's", "i'll", "you'll", "we'll", "i've", "you've",
    ]
)  # fmt: skip
STRESSED_BEFORE = re.compile(r"(tion|sion|ic|ity|ical|ian|ious|eous|ify)$")


@dataclass(frozen=True, slots=True)
class SpokenWord:
    """A word: as written, its syllables, a digit of stress for each (1 and 2 stressed, 0 not), its phones by syllable where they are
    known, and where that comes from."""

    text: str
    syllables: tuple[str, ...]
    stress: str
    phones: tuple[str, ...]
    source: str

    @property
    def rhyme(self) -> str:
        """What it rhymes by: sounds where they are known, else its spelling from the last vowel on."""
        return rhyme_of("".join(self.phones)) or _spelled_rhyme(self.text)


def plain(word: str) -> str:
    """A word as it is looked up: small letters, straight apostrophes, composed letters."""
    return unicodedata.normalize("NFC", word).replace("’", "'").replace("‘", "'").lower()


def own_word(text: str) -> tuple[str, str]:
    """A correction that a person writes (“LAN-terns”): the word it is about, and itself. Raises EditError."""
    parts = text.strip().split("-")
    if (
        not text.strip()
        or len(text) > MAX_WORD
        or not all(p and all(c.isalpha() or c in "'’" for c in p) for p in parts)
    ):
        raise EditError(
            f"“{shown(text)}” is no word divided by hyphens. Write it as it is sung, for example LAN-terns, up to {MAX_WORD} letters."
        )
    return plain("".join(parts)), "-".join(parts)


def read_word(text: str, language: str = ENGLISH, own: Mapping[str, str] | None = None) -> SpokenWord:
    """A word as it is sung, as a person divided it, as the table has it, or by rule."""
    key = plain(text)
    if own and key in own:
        return _as_divided(text, own[key])
    return _read(text[:MAX_WORD], language)


def _as_divided(text: str, divided: str) -> SpokenWord:
    parts = divided.split("-")
    edges = [sum(map(len, parts[:i])) for i in range(len(parts) + 1)]
    pieces = tuple(text[a:b] for a, b in zip(edges, edges[1:]))
    stress = "".join("1" if p.isupper() and (len(p) > 1 or len(parts) == 1) else "0" for p in parts)
    if "1" not in stress and len(parts) > 1:
        stress = "1" + "0" * (len(parts) - 1)
    phones = by_syllable(phones_of(plain(text)))
    return SpokenWord(text, pieces, stress, phones if len(phones) == len(pieces) else (), YOURS)


@lru_cache(maxsize=8192)
def _read(text: str, language: str) -> SpokenWord:
    key = plain(text)
    phones = by_syllable(_found(key)) if language == ENGLISH else ()
    if phones:
        stress = "0" if key in WEAK else stress_of("".join(phones))
        return SpokenWord(text, divided(text, len(phones), language), stress, phones, TABLE)
    if any(c >= "\u2e80" for c in key):  # signs that are a syllable each
        return SpokenWord(text, tuple(text), "1" * len(text), (), RULE)
    pieces = divided(text, counted_by_rule(key) if language == ENGLISH else 0, language)
    return SpokenWord(text, pieces, _stress_by_rule(key, len(pieces)), (), RULE)


def _found(key: str) -> str:
    """Phones of a word; an -in' is an -ing, a possessive is its word."""
    found = phones_of(key)
    if not found and key.endswith("in'"):
        found = phones_of(key[:-1] + "g").removesuffix("N") + "n" if phones_of(key[:-1] + "g") else ""
    if not found and key.endswith("'s"):
        base = phones_of(key[:-2])
        found = base + "z" if base else ""
    return found


def counted_by_rule(word: str) -> int:
    """Syllables of an English word by its spelling alone: groups of vowels, less silent ends, plus vowels that are spoken apart."""
    groups = VOWEL_GROUP.findall(word)
    count = len(groups)
    if SILENT_END.search(word) and not re.search(r"[^aeiouy]l(e|es|ed)$|[td]ed$|(?:[scxz]|sh|ch|g)es$", word):
        count -= 1
    for group in groups:
        if (
            len(group) > 1
            and any(p in group for p in ("ia", "io", "iu", "eo", "yi", "uo"))
            and not NO_HIATUS.search(word)
        ):
            count += 1
    if re.search(r"[^aeiouylr]sms?$|thms?$", word):
        count += 1
    return max(1, count)


@cache
def _patterns(language: str):  # type: ignore[no-untyped-def]
    import pyphen

    return pyphen.Pyphen(
        lang={"en": "en_US", "de": "de_DE", "nl": "nl_NL", "pt": "pt_PT"}.get(language, language), left=1, right=1
    )


def divided(text: str, count: int, language: str = ENGLISH) -> tuple[str, ...]:
    """A word cut into `count` syllables (0: as many as its spelling shows): where hyphenation allows it between two vowels, else before
    the consonant that begins the later one."""
    spelled = plain(text)
    places = (
        set(_patterns(language).positions(spelled))
        if language in LANGUAGES and spelled.isascii() or language != ENGLISH
        else set()
    )
    cores = _cores(spelled, count)
    cuts = []
    for (_, end), (start, _) in zip(cores, cores[1:]):
        allowed = [p for p in places if end <= p <= start]
        cuts.append(max(allowed) if allowed else max(end, start - 1 if start - end > 0 else end))
    edges = [0, *cuts, len(text)]
    return tuple(text[a:b] for a, b in zip(edges, edges[1:]))


def _cores(word: str, count: int) -> list[tuple[int, int]]:
    """Where the vowels of a word's syllables stand, as many as there are to be."""
    found = [m.span() for m in VOWEL_GROUP.finditer(word)]
    if count == 0:
        return found or [(0, len(word))]
    silent = SILENT_END.search(word)
    while len(found) > count:
        at = (
            len(found) - 1
            if silent and found[-1][0] >= silent.start()
            else min(range(len(found)), key=lambda i: _said(word, found[i]))
        )
        silent = None
        found.pop(at)
    while len(found) < count:
        long = [i for i, (a, b) in enumerate(found) if b - a > 1]
        if not long:
            break
        paired = [i for i in long if any(p in word[slice(*found[i])] for p in SPLIT_PAIRS)]
        at = (paired or long)[-1]
        a, b = found[at]
        found[at : at + 1] = [(a, a + 1), (a + 1, b)]
    if len(found) < count:  # more syllables than vowels (“rhythm”): the rest in equal parts
        edges = [round(i * len(word) / count) for i in range(count + 1)]
        found = [(a, max(a + 1, b)) for a, b in zip(edges, edges[1:])]
    return found or [(0, len(word))]


def _said(word: str, span: tuple[int, int]) -> tuple[bool, int]:
    """Ranks vowels by how likely they are said: a single e between consonants is passed over first."""
    text = word[slice(*span)]
    return text != "e", span[1] - span[0]


def _stress_by_rule(word: str, count: int) -> str:
    if count == 1:
        return "0" if word in WEAK else "1"
    at = max(0, count - 2) if STRESSED_BEFORE.search(word) else 0
    return "".join("1" if i == at else "0" for i in range(count))


def _spelled_rhyme(text: str) -> str:
    groups = list(VOWEL_GROUP.finditer(plain(text)))
    if len(groups) > 1 and SILENT_END.search(plain(text)):
        groups.pop()
    return plain(text)[groups[-1].start() :] if groups else plain(text)

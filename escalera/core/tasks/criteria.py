"""Criteria: a kind a row, with what people say for it, what it measures, and how near a miss is."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import field
from functools import cached_property

from escalera.core.checks.check import Facts
from escalera.core.document.limits import MAX_BARS, MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.document.names import guess_role
from escalera.core.document.song import ROLES, Section, Song
from escalera.core.reading.timeline import Timeline, timeline
from escalera.core.theory.keys import key_text, parse_key
from escalera.errors import EditError, InputError, shown
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Evidence:
    """Where something is seen or heard: a section (0 for the song), bars from 1 (0 for all of it), a layer (0 for all)."""

    said: str
    section_id: int = 0
    first_bar: int = 0
    last_bar: int = 0
    layer_id: int = 0


@dataclass(frozen=True, slots=True)
class Verdict:
    """How far a criterion is met: `share` from 0 to 1, None where it cannot be told from what was handed in; what was measured,
    what was asked, where it shows, and what would mend it."""

    share: float | None
    value: str
    limit: str
    evidence: tuple[Evidence, ...] = ()
    mend: str = ""

    @property
    def met(self) -> bool | None:
        return None if self.share is None else self.share >= 1.0


class JudgedWork:
    """What criteria ask of a song, each worked out once. `loudness_lufs` holds sections by id as they were rendered, where they were."""

    def __init__(self, song: Song, loudness_lufs: dict[int, float] | None = None):
        self.song, self.loudness_lufs = song, loudness_lufs

    @cached_property
    def facts(self) -> Facts:
        return Facts(self.song)

    @cached_property
    def line(self) -> Timeline:
        return timeline(self.song)

    def energy(self, section: Section) -> float:
        return self.facts.value(section)

    def sections(self, words: str) -> list[Section]:
        """Sections that words name: one by its name, or all of a role. EditError where there is none."""
        wanted = " ".join(words.casefold().split()).removeprefix("the ").removeprefix("every ").removeprefix("each ")
        named = [s for s in self.song.sections if s.name.casefold() == wanted]
        role = guess_role(wanted.removesuffix("s") if wanted.removesuffix("s") in ROLES else wanted)
        found = named or [
            s for s in self.song.sections if s.role == role and role != "none" and not re.search(r"\d", wanted)
        ]
        if not found:
            raise Missing(f"there is no {words}")
        return found

    def whole(self, section: Section, said: str) -> Evidence:
        """A section as evidence."""
        span = self.line.span_of(section.id)
        return Evidence(said, section.id, span.first_bar, span.last_bar)


class Missing(EditError):
    """What a criterion speaks of is not in the work."""


Judge = Callable[[JudgedWork, dict[str, str]], Verdict]
Read = Callable[[str], str]


@dataclass(frozen=True)
class CriterionKind:
    """A kind. `told` is how it is written, with its values in braces; `says` are other ways to say it, with the values as named groups;
    `heard` needs rendered sound."""

    key: str
    label: str
    told: str
    values: dict[str, Read]
    says: tuple[str, ...]
    judge: Judge
    usual: dict[str, str] = field(default_factory=dict)
    heard: bool = False

    def said(self, values: dict[str, str]) -> str:
        """The criterion in words."""
        return self.told.format(**{**self.usual, **values})

    @cached_property
    def patterns(self) -> tuple[re.Pattern[str], ...]:
        """What text is held against; compiled when text is read."""
        return tuple(re.compile(rf"^(?:{say})$", re.I) for say in self.says)


CRITERION_KINDS: dict[str, CriterionKind] = {}


def criterion(
    key: str,
    label: str,
    told: str,
    values: dict[str, Read],
    *says: str,
    usual: dict[str, str] | None = None,
    heard: bool = False,
) -> Callable[[Judge], Judge]:
    """Register a function as the judge of a kind."""

    def register(judge: Judge) -> Judge:
        own = re.escape(told).replace(r"\ ", r"\s+")
        for name in values:
            own = own.replace(rf"\{{{name}\}}", rf"(?P<{name}>.+?)")
        CRITERION_KINDS[key] = CriterionKind(key, label, told, values, (own, *says), judge, usual or {}, heard)
        return judge

    return register


# values as people write them ---------------------------------------------------------------------------------------


def name_of(text: str) -> str:
    """The name of a section or a role."""
    found = " ".join(text.split()).strip(" .,;")
    if not found or len(found) > 80:
        raise EditError(f"“{shown(text)}” names no section. Write a name, or a role such as chorus.")
    return re.sub(r"^(?:(?:the )?energy (?:of|in) )?(?:(?:the|an?|every|each) )?", "", found, flags=re.I)


def amount(low: float, high: float, what: str) -> Read:
    """A number between two limits."""

    def read(text: str) -> str:
        try:
            value = float(text.strip().replace(",", "."))
        except ValueError:
            raise EditError(f"“{shown(text)}” is no {what}. Write a number.") from None
        if not low <= value <= high:
            raise EditError(f"{what.capitalize()} {value:g} lies outside {low:g} to {high:g}.")
        return f"{value:g}"

    return read


WORD_NUMBERS = ["one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve"]


def count(low: int, high: int, what: str) -> Read:
    """A whole number between two limits, also as a word."""
    whole = amount(low, high, what)

    def read(text: str) -> str:
        word = text.strip().casefold()
        value = whole(str(WORD_NUMBERS.index(word) + 1) if word in WORD_NUMBERS else text)
        if "." in value:
            raise EditError(f"“{shown(text)}” is no whole number.")
        return value

    return read


def words(text: str) -> str:
    """Words that name something."""
    found = " ".join(text.split()).strip(" .,;")
    if not found or len(found) > 200:
        raise EditError(f"“{shown(text)}” names nothing that can be looked for.")
    return found


def key_named(text: str) -> str:
    """A key."""
    try:
        return key_text(parse_key(text.strip(" .")))
    except InputError as error:
        raise EditError(str(error)) from error


def one_word_of(allowed: Sequence[str], what: str) -> Read:
    """One of a few words."""

    def read(text: str) -> str:
        found = text.strip(" .").casefold()
        if found not in allowed:
            raise EditError(f"“{shown(text)}” is no {what}. Choose one of: {', '.join(allowed)}.")
        return found

    return read


bars = count(1, MAX_BARS, "number of bars")
energy = amount(0, 12, "energy")
tempo = amount(MIN_TEMPO_BPM, MAX_TEMPO_BPM, "tempo")


def ordered(low: str, high: str, given: dict[str, str]) -> tuple[float, float]:
    """Two limits, the lower first."""
    a, b = float(given[low]), float(given[high])
    return (a, b) if a <= b else (b, a)


def near(off: float, reach: float) -> float:
    """What a miss by `off` still earns, where a miss by `reach` earns nothing."""
    return max(0.0, 1.0 - off / reach)

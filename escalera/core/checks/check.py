"""Checks: small rules that report findings with numbers, a reason and moves that mend them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import cached_property
from itertools import pairwise
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from escalera.core.bench.bass_faults import Fault, bass_faults
from escalera.core.bench.layer_jobs import SectionJobs, jobs
from escalera.core.bench.low_end import LowEnd, low_end
from escalera.core.document.schools import SCHOOLS, switch_value
from escalera.core.document.song import Layer, Section, Song
from escalera.core.energy.explain import Agreement, arranged_agreement
from escalera.core.energy.join_reading import JoinReading, read_joins
from escalera.core.energy.joins import join_devices
from escalera.core.energy.model import SectionEnergy, SongEnergy, arranged
from escalera.core.joins import played
from escalera.core.reading.brief import Implied, read_brief
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

T = TypeVar("T")
MAX_FACTS = 400  # characters of figures that are kept with an acceptance
PEAKS = ("chorus", "drop", "post-chorus")
STRICTNESS = {"lenient": 1.4, "normal": 1.0, "strict": 0.75}


@dataclass(frozen=True, slots=True)
class Finding:
    """`place` are ids of the sections it is about (two for a join, none for the song); `weight` ranks it, about points of energy.

    `facts` are the figures it rests on, rounded: an accepted finding comes back when they change.
    """

    check: str
    said: str
    place: tuple[int, ...] = ()
    layer_id: int = 0
    weight: float = 1.0
    facts: tuple[object, ...] = ()

    @property
    def key(self) -> str:
        """Names the finding again, whatever its figures are."""
        return ":".join([self.check, *map(str, self.place), str(self.layer_id)])


@dataclass(frozen=True, slots=True)
class Check:
    """A rule. `when` is a switch and the position in which it applies; `mends` are kinds of moves that would help."""

    id: str
    title: str
    reason: str
    when: tuple[str, str] | None
    mends: tuple[str, ...]
    find: Callable[[Facts], Iterator[Finding]]

    def applies(self, song: Song) -> bool:
        return self.when is None or switch_value(song.school, song.switches, self.when[0]) == self.when[1]


CHECKS: dict[str, Check] = {}
Find = Callable[["Facts"], Iterator[Finding]]


def check(id: str, title: str, reason: str, *mends: str, when: tuple[str, str] | None = None) -> Callable[[Find], Find]:
    """Register a function as the check `id`; `mends` names the kinds of moves tried as fixes, `when` a field that must hold a value."""

    def register(find: Find) -> Find:
        CHECKS[id] = Check(id, title, reason, when, mends, find)
        return find

    return register


def without_guesses(song: Song) -> Song:
    """The song as it is certain to be: sections whose role was only guessed have none."""
    if not any(s.guessed for s in song.sections):
        return song
    sections = tuple(replace(s, role="none") if s.guessed else s for s in song.sections)
    return replace(song, sections=sections)


class Facts:
    """What checks ask of a song, each computed once."""

    def __init__(self, song: Song):
        self.given = without_guesses(song)
        self.song = played(self.given)
        self.loose = STRICTNESS[SCHOOLS[song.school].strictness]

    @cached_property
    def energy(self) -> SongEnergy:
        return arranged(self.song)

    @property
    def sections(self) -> tuple[SectionEnergy, ...]:
        return self.energy.sections

    def value(self, section: Section) -> float:
        return self.energy.of(section.id).value

    def of_role(self, *roles: str) -> list[SectionEnergy]:
        return [s for s in self.sections if s.span.section.role in roles]

    @cached_property
    def highest(self) -> float:
        return max((s.value for s in self.sections), default=0.0)

    def is_loud(self, section: SectionEnergy) -> bool:
        return section.span.section.role in PEAKS or section.value >= 0.75 * self.highest

    @cached_property
    def joins(self) -> list[tuple[SectionEnergy, SectionEnergy, tuple[str, ...]]]:
        return [(a, b, join_devices(a.core, b.core)) for a, b in pairwise(self.sections)]

    @cached_property
    def readings(self) -> list[JoinReading]:
        """Every join as it plays, in order."""
        return read_joins(self.given)

    @cached_property
    def agreement(self) -> Agreement:
        return arranged_agreement(self.energy)

    def jobs(self, section: SectionEnergy) -> SectionJobs:
        """Who does what in a section as it is written: a layer that only fades into it has no job there."""
        span = timeline(self.given).span_of(section.span.section.id)
        return self.kept(section, "jobs", lambda: jobs(self.given, span))

    def lows(self, section: SectionEnergy) -> LowEnd:
        return self.kept(section, "lows", lambda: low_end(self.song, section.span))

    def faults(self, section: SectionEnergy) -> list[Fault]:
        """Faults of basses under written chords; what was read from the notes cannot blame them."""
        if self.song.chords_read:
            return []
        return self.kept(section, "faults", lambda: bass_faults(self.song, section.span))

    def powers(self, section: SectionEnergy) -> NDArray[np.float64]:
        """Mean square of every layer in the six bands over a section, shape (layers, 6)."""
        core = section.core
        weights = core.felt_bars.lengths_s
        return self.kept(section, "powers", lambda: np.average(core.stats[:, :, :6], axis=1, weights=weights))

    def kept(self, section: SectionEnergy, name: str, make: Callable[[], T]) -> T:
        """Read once from what a section plays, whatever the state of the song."""
        if name not in section.core.memo:
            section.core.memo[name] = make()
        return section.core.memo[name]

    @cached_property
    def phrases(self) -> dict[int, list[set[tuple[object, ...]]]]:
        """What every phrase of every section plays: (layer, pattern, variation); muted layers play nothing."""
        heard = {x.id for x in self.song.layers if not x.muted}
        found: dict[int, list[set[tuple[object, ...]]]] = {}
        for s in self.sections:
            section = s.span.section
            found[section.id] = [
                {
                    (p.layer_id, p.pattern_id, p.variation)
                    for p in section.placements
                    if p.layer_id in heard and p.start_ticks < high and p.end_ticks > low
                }
                for low, high in s.span.phrase_ticks()
            ]
        return found

    def layers_of(self, section: Section) -> set[int]:
        return {row[0] for phrase in self.phrases[section.id] for row in phrase}  # type: ignore[misc]

    @cached_property
    def brief(self) -> list[Implied]:
        return read_brief(self.song)

    def layer(self, layer_id: int) -> Layer:
        return self.song.layer_by_id[layer_id]


def run_checks(song: Song) -> list[Finding]:
    """All findings of a song, the weightiest first."""
    if "findings" not in song.memo:
        facts = Facts(song)
        found = [f for each in CHECKS.values() if each.applies(song) for f in each.find(facts)] if song.sections else []
        song.memo["findings"] = sorted(found, key=lambda f: -f.weight)
    return song.memo["findings"]


@dataclass(frozen=True, slots=True)
class Judged:
    """Open findings, and those that are accepted, with their reasons."""

    open: tuple[Finding, ...]
    accepted: tuple[tuple[Finding, str], ...]


def facts_text(finding: Finding) -> str:
    """The figures a finding rests on, as they are kept with an acceptance."""
    return repr(finding.facts)[:MAX_FACTS]


def judged(song: Song) -> Judged:
    """Findings apart: still open, and accepted. An accepted one whose figures changed is open again."""
    return apart_from_accepted(song, run_checks(song))


def apart_from_accepted(song: Song, found: Sequence[Finding]) -> Judged:
    """Findings apart by what the song accepted, each with the reason."""
    kept = {(key, facts): reason for key, facts, reason in song.accepted}
    meant = tuple((f, kept[f.key, facts_text(f)]) for f in found if (f.key, facts_text(f)) in kept)
    return Judged(tuple(f for f in found if (f.key, facts_text(f)) not in kept), meant)


# what follows from one loop that plays throughout: said under that cause while it is there
UNARRANGED = frozenset(
    {
        *(
            "second half",
            "distance",
            "shape",
            "weak one",
            "join",
            "level",
            "nothing new",
            "alike",
            "verse rises",
            "early peak",
            "late chorus",
            "nothing kept",
        ),
        *("verse", "repeats", "break", "peak", "ending", "many new"),
    }
)


def grouped(findings: Sequence[Finding]) -> list[tuple[Finding, ...]]:
    """Findings by their cause, the weightiest group and member first. What one rule says about several places is one cause; so is
    all that follows from a loop that is not arranged yet."""
    groups: dict[str, list[Finding]] = {}
    loop = any(f.check == "unarranged" for f in findings)
    for each in findings:
        cause = "unarranged" if loop and each.check in UNARRANGED else each.check
        groups.setdefault(cause, []).append(each)
    rows = [tuple(sorted(group, key=lambda f: -f.weight)) for group in groups.values()]
    return sorted(rows, key=lambda group: -group[0].weight)


def find_finding(song: Song, key: str) -> Finding:
    """The finding with this key. Raises EditError when the song has no such finding any more."""
    for each in run_checks(song):
        if each.key == key:
            return each
    raise EditError("This finding has gone: the song is not like that any more. The list shows what there is.")


def points(value: float) -> str:
    """'+0.8' or '−0.3', with a proper minus."""
    return f"{value:+.1f}".replace("-", "−")


def some(names: list[str], most: int = 3) -> str:
    """'A, B and 2 more'."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more

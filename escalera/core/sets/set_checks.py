"""What a set of songs does that tires or jars: a rule a row, each with the figures it rests on and what would help."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import groupby

from escalera.core.document.work_state import MASTERED, RELEASED
from escalera.core.planning.stages import WORKED, standing
from escalera.core.sets.set_reading import Placed, ReadSet, SongJoin
from escalera.core.theory.keys import parse_key
from escalera.core.time.ticks import clock
from escalera.lazy_dataclasses import dataclass

ALIKE_TEMPO, ALIKE_ENERGY = 0.05, 0.8  # share of the tempo, points of mean energy
IN_A_ROW = 3
ONE_KEY_S = 720.0
EARLY = 0.45  # share of the set before which its peak comes early
FLAT = 1.2  # points between the calmest and the strongest song
JUMP = 0.25
FAR_FIFTHS = 4
LONG_GAP_S = {"album": 6.0, "single with versions": 6.0, "live set": 45.0, "class": 600.0}
HARD_FALL = 5.0
FROM = 4  # songs from which a set has a curve


@dataclass(frozen=True, slots=True)
class SetFinding:
    """What is said, what would help, the songs it is about by their places (from 0), and how much it weighs."""

    check: str
    said: str
    remedy: str
    places: tuple[int, ...]
    weight: float


Find = Callable[[ReadSet], Iterator[SetFinding]]


@dataclass(frozen=True, slots=True)
class SetCheck:
    """A rule over a set. `kinds` are those of sets it applies to; empty is all. `orders` says whether another order can help."""

    key: str
    title: str
    kinds: tuple[str, ...]
    find: Find
    orders: bool


SET_CHECKS: dict[str, SetCheck] = {}


def set_check(key: str, title: str, *kinds: str, orders: bool = True) -> Callable[[Find], Find]:
    """Register a function as the check `key`."""

    def register(find: Find) -> Find:
        SET_CHECKS[key] = SetCheck(key, title, kinds, find, orders)
        return find

    return register


def set_findings(found: ReadSet) -> list[SetFinding]:
    """All findings, the weightiest first."""
    rows = [f for c in SET_CHECKS.values() if not c.kinds or found.kind in c.kinds for f in c.find(found)]
    return sorted(rows, key=lambda f: -f.weight)


def _names(songs: list[Placed]) -> str:
    return ", ".join(s.facts.title for s in songs)


def _runs(songs: tuple[Placed, ...], alike: Callable[[Placed, Placed], bool]) -> Iterator[list[int]]:
    """Places of songs in a row that are each alike to the one before."""
    run: list[int] = []
    for place, song in enumerate(songs):
        if run and not alike(songs[run[-1]], song):
            yield run
            run = []
        run.append(place)
    if run:
        yield run


@set_check("alike", "Alike in a row", "album", "live set", "class")
def _alike(found: ReadSet) -> Iterator[SetFinding]:
    def alike(a: Placed, b: Placed) -> bool:
        tempo = abs(b.facts.tempo_bpm / a.facts.tempo_bpm - 1) <= ALIKE_TEMPO
        return tempo and abs(a.facts.mean - b.facts.mean) <= ALIKE_ENERGY and a.facts.minor == b.facts.minor

    for run in _runs(found.songs, alike):
        if len(run) >= IN_A_ROW:
            songs = [found.songs[i] for i in run]
            tempi = [s.facts.tempo_bpm for s in songs]
            yield SetFinding(
                "alike",
                f"{_names(songs)} follow each other at {min(tempi):.0f} to {max(tempi):.0f} bpm, equally strong and "
                f"{'minor' if songs[0].facts.minor else 'major'}.",
                "Put something slower, faster or calmer between them.",
                tuple(run),
                1.0 + 0.5 * (len(run) - IN_A_ROW),
            )


@set_check("one key", "One key for too long", "album", "live set")
def _one_key(found: ReadSet) -> Iterator[SetFinding]:
    same = lambda a, b: (a.facts.tonic_class, a.facts.minor) == (b.facts.tonic_class, b.facts.minor)  # noqa: E731
    for run in _runs(found.songs, same):
        lasts = found.songs[run[-1]].ends_s - found.songs[run[0]].begins_s
        if len(run) >= IN_A_ROW or (len(run) > 1 and lasts > ONE_KEY_S):
            songs = [found.songs[i] for i in run]
            yield SetFinding(
                "one key",
                f"{_names(songs)} are all in {parse_key(songs[0].facts.key)}, for {clock(lasts)}.",
                "Put a song in another key between them, or play one a step higher.",
                tuple(run),
                0.8,
            )


@set_check("early peak", "The peak comes early", "album", "live set")
def _early_peak(found: ReadSet) -> Iterator[SetFinding]:
    if len(found.songs) < FROM:
        return
    place = max(range(len(found.songs)), key=lambda i: found.songs[i].facts.mean)
    top = found.songs[place]
    share = top.ends_s / found.seconds
    if share < EARLY:
        yield SetFinding(
            "early peak",
            f"{top.facts.title}, the strongest with {top.facts.mean:.1f}, is over after {100 * share:.0f} % of the set.",
            "Play it after the middle, or let something stronger follow.",
            (place,),
            1.2,
        )


@set_check("flat", "No curve", "album", "live set")
def _flat(found: ReadSet) -> Iterator[SetFinding]:
    means = [s.facts.mean for s in found.songs]
    if len(means) >= FROM and max(means) - min(means) < FLAT:
        yield SetFinding(
            "flat",
            f"All songs lie between {min(means):.1f} and {max(means):.1f}: the set has neither a valley nor a peak.",
            "Add something calmer, or exchange one.",
            (),
            0.9,
        )


def _between(found: SongJoin) -> str:
    return f"From {found.before.facts.title} to {found.after.facts.title}"


@set_check("tempo jump", "A tempo that jumps without a break", "album", "live set")
def _tempo_jump(found: ReadSet) -> Iterator[SetFinding]:
    for place, each in enumerate(found.joins):
        if each.seamless and abs(each.tempo_ratio - 1) > JUMP:
            yield SetFinding(
                "tempo jump",
                f"{_between(each)} the tempo changes by {100 * (each.tempo_ratio - 1):+.0f} % with {each.silent_s:.1f} s between.".replace(
                    "-", "−"
                ),
                "Leave two seconds or more, or let the first one slow down at its end.",
                (place, place + 1),
                0.7,
            )


@set_check("keys clash", "Keys that clash without a break", "album", "live set")
def _keys_clash(found: ReadSet) -> Iterator[SetFinding]:
    for place, each in enumerate(found.joins):
        if each.seamless and each.fifths >= FAR_FIFTHS:
            yield SetFinding(
                "keys clash",
                f"{_between(each)} the keys lie {each.fifths} fifths apart with {each.silent_s:.1f} s between.",
                "Leave two seconds or more, or put a song between whose key is near to both.",
                (place, place + 1),
                0.7,
            )


@set_check("energy falls", "A hard fall from song to song", "live set")
def _falls(found: ReadSet) -> Iterator[SetFinding]:
    for place, each in enumerate(found.joins):
        if each.after.facts.mean - each.before.facts.mean < -HARD_FALL:
            yield SetFinding(
                "energy falls",
                f"{_between(each)} the energy falls from {each.before.facts.mean:.1f} to {each.after.facts.mean:.1f}.",
                "Put something between them, unless it is the turning point you want.",
                (place, place + 1),
                0.6,
            )


@set_check("long gap", "A long gap", orders=False)
def _long_gap(found: ReadSet) -> Iterator[SetFinding]:
    for place, each in enumerate(found.joins):
        if each.silent_s > LONG_GAP_S[found.kind]:
            yield SetFinding(
                "long gap",
                f"{_between(each)} {each.silent_s:.1f} s pass in silence; more than {LONG_GAP_S[found.kind]:.0f} s seem to be the end.",
                "Shorten the gap, or the silence at the end of the first.",
                (place, place + 1),
                0.5,
            )


@set_check("too long", "Longer than it may be", orders=False)
def _too_long(found: ReadSet) -> Iterator[SetFinding]:
    over = found.seconds - found.wanted_s
    if found.wanted_s and over > 0:
        shortest = min(found.songs, key=lambda s: (s.facts.seconds < over, s.facts.seconds))
        yield SetFinding(
            "too long",
            f"It lasts {clock(found.seconds)}, {clock(over)} more than it may.",
            f"Leave out {shortest.facts.title} ({clock(shortest.facts.seconds)}), or shorten gaps.",
            (),
            1.1,
        )


@set_check("unfinished", "Not ready for it", "album", "single with versions", orders=False)
def _unfinished(found: ReadSet) -> Iterator[SetFinding]:
    waiting = []
    for place, song in enumerate(found.songs):
        marks = song.facts.work.marks
        stage = standing(song.facts.work, marks[0].on).stage if marks else WORKED[0]
        if stage not in (MASTERED, RELEASED):
            waiting.append((place, stage))
    rows = groupby(sorted(waiting, key=lambda w: w[1]), key=lambda w: w[1])
    told = [f"{len(list(group))} {stage}" for stage, group in rows]
    if waiting:
        yield SetFinding(
            "unfinished",
            f"{len(waiting)} of {len(found.songs)} songs are not mastered yet: {', '.join(told)}.",
            "The board shows what each of them lacks.",
            tuple(place for place, _ in waiting),
            0.4,
        )


@set_check("twice", "The same song twice", "album", "live set", orders=False)
def _twice(found: ReadSet) -> Iterator[SetFinding]:
    seen: dict[int, int] = {}
    for place, song in enumerate(found.songs):
        first = seen.setdefault(song.entry.song_id, place)
        if first != place:
            yield SetFinding(
                "twice",
                f"{song.facts.title} is played at place {first + 1} and again at {place + 1}.",
                "Take one out, or leave it so if it comes back on purpose.",
                (first, place),
                0.5,
            )

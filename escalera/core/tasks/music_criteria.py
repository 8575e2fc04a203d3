"""Criteria about energy, likeness, room for a voice, and what is used or left out."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.checks.check import some
from escalera.core.document.song import Section, Song
from escalera.core.energy.join_reading import read_joins
from escalera.core.palette.effects import EFFECT_BY_KEY
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.core.reading.events import PITCH, section_events
from escalera.core.tasks.criteria import (
    Evidence,
    JudgedWork,
    Verdict,
    amount,
    criterion,
    energy,
    name_of,
    near,
    ordered,
    words,
)
from escalera.errors import EditError, shown

REACH = 3.0  # points of energy by which a miss earns nothing
VOICE_LOW, VOICE_HIGH = 55, 77  # MIDI pitches in which most voices sing
ALIKE = ("0.35", "0.9")  # likeness from which two sections are similar, and beyond which they are the same
Values = dict[str, str]
E = r"\d+(?:[.,]\d+)?"


@criterion(
    "highest", "The highest", "{section} is the highest", {"section": name_of},
    r"(?P<section>.+?) (?:is|are) (?:the )?(?:highest|strongest|most energetic|peak)(?: of all)?", r"the peak is (?:in )?(?P<section>.+)",
)  # fmt: skip
def _highest(work: JudgedWork, given: Values) -> Verdict:
    return _extreme(work, given["section"], 1, "above")


@criterion(
    "lowest", "The lowest", "{section} is the lowest", {"section": name_of},
    r"(?P<section>.+?) (?:is|are) (?:the )?(?:lowest|calmest|quietest|least energetic)(?: of all)?",
)  # fmt: skip
def _lowest(work: JudgedWork, given: Values) -> Verdict:
    return _extreme(work, given["section"], -1, "below")


def _extreme(work: JudgedWork, name: str, sign: int, where: str) -> Verdict:
    """Sections that should lie beyond all others: the best of them counts, and what stands in its way is shown."""
    chosen = work.sections(name)
    others = [s for s in work.song.sections if s not in chosen]
    best = max(chosen, key=lambda s: sign * work.energy(s))
    value = work.energy(best)
    beyond = [s for s in others if sign * work.energy(s) >= sign * value]
    shown_at = tuple(work.whole(s, f"{s.name} {work.energy(s):.1f}") for s in (best, *beyond))
    mend = f"Bring {best.name} {where} {some([s.name for s in beyond])}, or those the other way." if beyond else ""
    share = 1 - len(beyond) / len(others) if others else 1.0
    told = f"{best.name} {value:.1f}" + (f"; {some([e.said for e in shown_at[1:]])}" if beyond else "")
    return Verdict(share, told, f"{where} all others", shown_at, mend)


@criterion(
    "levels", "Energy between two levels", "{section} has an energy of {low} to {high}", {"section": name_of, "low": energy, "high": energy},
    rf"(?P<section>.+?) (?:lies|is|stays|are) (?:between|at) (?P<low>{E}) (?:and|to|-|–) (?P<high>{E})(?: in energy)?",
    rf"(?:the )?energy (?:of|in) (?P<section>.+?) (?:lies|is) (?:between )?(?P<low>{E}) (?:and|to|-|–) (?P<high>{E})",
)  # fmt: skip
def _levels(work: JudgedWork, given: Values) -> Verdict:
    low, high = ordered("low", "high", given)
    found = work.sections(given["section"])
    off = {s.id: max(0.0, low - work.energy(s), work.energy(s) - high) for s in found}
    wrong = [s for s in found if off[s.id] > 0]
    share = sum(near(off[s.id], REACH) for s in found) / len(found)
    mend = (
        f"{'Lift' if work.energy(wrong[0]) < low else 'Lower'} {wrong[0].name} by {off[wrong[0].id]:.1f}."
        if wrong
        else ""
    )
    told = some([f"{s.name} {work.energy(s):.1f}" for s in found], 5)
    return Verdict(share if wrong else 1.0, told, f"{low:g} to {high:g}", tuple(work.whole(s, f"{work.energy(s):.1f}") for s in wrong or found), mend)  # fmt: skip


@criterion(
    "contrast", "Contrast", "highest and lowest lie {points} points apart", {"points": amount(0.1, 10, "contrast")},
    rf"(?:a )?contrast of (?:at least )?(?P<points>{E})(?: points)?",
)  # fmt: skip
def _contrast(work: JudgedWork, given: Values) -> Verdict:
    rows = sorted(work.song.sections, key=work.energy)
    there, wanted = work.energy(rows[-1]) - work.energy(rows[0]), float(given["points"])
    ends = (
        work.whole(rows[0], f"lowest, {work.energy(rows[0]):.1f}"),
        work.whole(rows[-1], f"highest, {work.energy(rows[-1]):.1f}"),
    )
    mend = f"Lower {rows[0].name}, or lift {rows[-1].name}, by {wanted - there:.1f}." if there < wanted else ""
    return Verdict(min(1.0, max(0.0, there / wanted)), f"{there:.1f} points", f"{wanted:g} points", ends, mend)


@criterion(
    "louder", "Louder as it sounds", "{section} is {lu} LU louder than {other}",
    {"section": name_of, "lu": amount(0.1, 30, "difference"), "other": name_of},
    rf"(?P<section>.+?) is (?:at least )?(?P<lu>{E}) (?:LU|dB) louder than (?P<other>.+)", heard=True,
)  # fmt: skip
def _louder(work: JudgedWork, given: Values) -> Verdict:
    ones, others, wanted = work.sections(given["section"]), work.sections(given["other"]), float(given["lu"])
    if work.loudness_lufs is None:
        return Verdict(None, "it was not rendered", f"{wanted:g} LU")
    one, other = (max(work.loudness_lufs.get(s.id, -120.0) for s in rows) for rows in (ones, others))
    there = one - other
    shown_at = (work.whole(ones[0], f"{one:.1f} LUFS"), work.whole(others[0], f"{other:.1f} LUFS"))
    mend = f"Add what makes it fuller in {ones[0].name}, or thin out {others[0].name}." if there < wanted else ""
    return Verdict(
        min(1.0, max(0.0, there / wanted)), f"{there:+.1f} LU".replace("-", "−"), f"{wanted:g} LU", shown_at, mend
    )


def _rows(song: Song, section: Section, low: float = 0.0, high: float = 1.0) -> set[tuple[object, ...]]:
    """What plays in a part of a section: layers with the content of their patterns and what is varied."""
    heard = {x.id for x in song.layers if not x.muted}
    end = max((p.end_ticks for p in section.placements), default=0)
    return {
        (p.layer_id, song.pattern_by_id[p.pattern_id].pattern.content_hash, p.variation)
        for p in section.placements
        if p.layer_id in heard and p.start_ticks < high * end and p.end_ticks > low * end
    }


@criterion(
    "new half", "Something new in the second half", "something new comes in the second half of {section}", {"section": name_of},
    r"(?P<section>.+?) has something new in (?:its|the) second half", r"the second half of (?P<section>.+?) (?:brings|has) something new",
)  # fmt: skip
def _new_half(work: JudgedWork, given: Values) -> Verdict:
    found, rows = work.sections(given["section"]), []
    for s in found:
        new = _rows(work.song, s, 0.5, 1.0) - _rows(work.song, s, 0.0, 0.5)
        rows.append((s, sorted({work.song.layer_by_id[r[0]].name for r in new})))  # type: ignore[index]
    bare = [s for s, names in rows if not names]
    value = "; ".join(f"{s.name}: {some(names) if names else 'nothing'}" for s, names in rows)
    mend = f"Let a layer enter, leave or change in the second half of {some([s.name for s in bare])}." if bare else ""
    shown_at = tuple(work.whole(s, some(names) or "nothing is new") for s, names in rows if not names or not bare)
    return Verdict(1 - len(bare) / len(found), value, "a layer or a line that was not there", shown_at, mend)


def likeness(song: Song, one: Section, other: Section) -> float:
    """How much two sections have in common, 0 nothing, 1 the same: the mean of the shares of layers, of lines, and of lines as they are
    varied that both have, of all that either has."""
    rows = _rows(song, one), _rows(song, other)
    shares = []
    for depth in (1, 2, 3):
        a, b = ({row[:depth] for row in side} for side in rows)
        shares.append(len(a & b) / len(a | b) if a | b else 1.0)
    return sum(shares) / len(shares)


@criterion(
    "similar", "Similar, but not the same", "{section} is like {other} by {low} to {high}",
    {"section": name_of, "other": name_of, "low": amount(0, 1, "likeness"), "high": amount(0, 1, "likeness")},
    r"(?P<section>.+?) is (?:similar to|like) (?P<other>.+?),? but not (?:alike|the same|equal)",
    r"(?P<section>.+?) varies (?P<other>.+)", usual={"low": ALIKE[0], "high": ALIKE[1]},
)  # fmt: skip
def _similar(work: JudgedWork, given: Values) -> Verdict:
    one, other = work.sections(given["section"])[-1], work.sections(given["other"])[0]
    if one is other:
        raise EditError(f"{one.name} is compared with itself. Name two sections.")
    low, high = ordered("low", "high", given)
    there = likeness(work.song, one, other)
    off = max(0.0, low - there, there - high)
    mend = f"{'Bring back more of' if there < low else 'Change something against'} {other.name}." if off else ""
    share = near(off, max(0.05, 1 - high) if there > high else 0.4) if off else 1.0
    return Verdict(share, f"{there:.2f}", f"{low:g} to {high:g}, of 1", (work.whole(one, "this"), work.whole(other, "and this")), mend)  # fmt: skip


@criterion(
    "room", "Room for a voice", "in {section} at most {most} notes a bar lie where a voice sings",
    {"section": name_of, "most": amount(0, 64, "number of notes")},
    r"(?:leave )?(?:space|room) for a voice in (?P<section>.+)", r"(?P<section>.+?) leaves (?:space|room) for a voice", usual={"most": "8"},
)  # fmt: skip
def _room(work: JudgedWork, given: Values) -> Verdict:
    found, most = work.sections(given["section"]), float(given["most"])
    rows = [(s, *_in_the_way(work, s)) for s in found]
    worst, notes, names = max(rows, key=lambda r: r[1])
    share = sum(1.0 if n <= most else near(n - most, max(4.0, most)) for _, n, _ in rows) / len(rows)
    mend = f"Thin out {some(names)} in {worst.name}, or put it an octave away." if notes > most else ""
    told = some([f"{s.name} {n:.1f}" for s, n, _ in rows], 5)
    return Verdict(
        share, f"{told} notes a bar", f"{most:g} notes a bar", (work.whole(worst, some(names) or "free"),), mend
    )


def _in_the_way(work: JudgedWork, section: Section) -> tuple[float, list[str]]:
    """Notes a bar between the lowest and highest pitch that most voices sing, and the layers that play most of them."""
    counts: dict[str, int] = {}
    for layer_id, events in section_events(work.song, work.line.span_of(section.id)).items():
        layer = work.song.layer_by_id[layer_id]
        if not (layer.muted or layer.sound.is_drum or layer.family in ("voices", "low end")):
            pitches = events.table[:, PITCH]
            counts[layer.name] = int(((pitches >= VOICE_LOW) & (pitches <= VOICE_HIGH)).sum())
    names = [n for n, c in sorted(counts.items(), key=lambda row: -row[1]) if c]
    return sum(counts.values()) / section.bars, names


# what is used -----------------------------------------------------------------------------------------------------


# what it is called, and the field of a section in which it stands
WAYS_OF_WORKING = {"curves": "curves", "throws": "throws", "swing": "swings", "key shift": "shift_semitones", "build": "build", "tempo change": "tempo_changes"}  # fmt: skip


def used(song: Song) -> Iterator[tuple[str, Evidence]]:
    """Everything that a song uses, as it is called, with where: sounds and their families, effects, devices at joins, ways of working."""
    placed = {p.layer_id for s in song.sections for p in s.placements}
    for x in song.layers:
        if x.id in placed and not x.muted:
            for name in (
                x.sound.label,
                x.name,
                x.family,
                x.sound.drum,
                "samples" if x.clips else "",
                "stand-ins" if x.stand_in else "",
            ):
                yield name, Evidence(x.name, layer_id=x.id)
            for d in x.devices:
                yield EFFECT_BY_KEY[d.key].label, Evidence(f"on {x.name}", layer_id=x.id)
    for join in read_joins(song):
        for carrier in join.carriers:
            where = Evidence(
                f"into {join.right.section.name}", join.right.section.id, join.right.first_bar, join.right.first_bar
            )
            yield JOIN_KINDS[carrier.kind].label if carrier.kind in JOIN_KINDS else carrier.kind, where
            yield carrier.kind, where
    for s in song.sections:
        for name, part in WAYS_OF_WORKING.items():
            if getattr(s, part):
                yield name, Evidence(f"in {s.name}", s.id)


def _plain(name: str) -> str:
    return " ".join(name.casefold().replace("-", " ").split()).removesuffix("s")


def _found(song: Song, wanted: str) -> list[Evidence]:
    word = _plain(wanted.removeprefix("a ").removeprefix("an ").removeprefix("the "))
    return [place for name, place in used(song) if name and (_plain(name) == word or word in _plain(name).split())]


@criterion(
    "uses", "Something is used", "it uses {what}", {"what": words}, r"uses? (?P<what>.+)", r"with (?P<what>an? .+)", r"there is (?P<what>an? .+)"
)  # fmt: skip
def _uses(work: JudgedWork, given: Values) -> Verdict:
    parts = _listed(given["what"])
    rows = [(p, _found(work.song, p)) for p in parts]
    missing = [p for p, found in rows if not found]
    shown_at = tuple(found[0] for _, found in rows if found)
    value = some([p for p, found in rows if found], 6) or "nothing of it"
    return Verdict(
        1 - len(missing) / len(parts), value, given["what"], shown_at, f"Add {some(missing)}." if missing else ""
    )


@criterion(
    "without", "Something is left out", "it has no {what}", {"what": words},
    r"(?:use )?no (?P<what>.+)", r"without (?P<what>.+)", r"(?P<what>.+?) (?:is|are) (?:forbidden|not allowed)",
)  # fmt: skip
# fmt: skip
def _without(work: JudgedWork, given: Values) -> Verdict:
    parts = _listed(given["what"])
    rows = [(p, _found(work.song, p)) for p in parts]
    there = [(p, found) for p, found in rows if found]
    shown_at = tuple(place for _, found in there for place in found[:4])
    value = "; ".join(f"{p}: {some([e.said for e in found])}" for p, found in there) or "none"
    return Verdict(
        1 - len(there) / len(parts),
        value,
        f"no {given['what']}",
        shown_at,
        f"Take out {some([e.said for e in shown_at])}." if there else "",
    )


def _listed(text: str) -> list[str]:
    parts = [p.strip() for p in text.replace(" and ", ", ").replace(" or ", ", ").split(",") if p.strip()]
    if not parts:
        raise EditError(f"“{shown(text)}” names nothing.")
    return parts

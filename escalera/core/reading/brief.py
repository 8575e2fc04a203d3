"""The brief of a song: what is wanted in words, and what it implies for the song as it is."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date

from escalera.core.document.days import read_day
from escalera.core.document.forms import FORMS
from escalera.core.document.limits import MAX_BARS, MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.document.schools import SCHOOLS
from escalera.core.document.song import Layer, Song
from escalera.core.palette.sounds import SOUNDS
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.core.time.ticks import TICKS_PER_QUARTER, clock
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass

MAX_WISH = 300
NEAR = 0.05  # of the wanted length: as near as that, it is met

TEMPOS = {"slow": (30, 80), "middle": (80, 108), "brisk": (108, 132), "fast": (132, 300)}  # quarter notes a minute
JOBS = {
    "song for a voice": ("song", "verse-chorus"),
    "loop piece": ("dance", "loop-piece"),
    "music to picture": ("weather", "through"),
}  # school, form
RICHNESS = {"plain": (0.0, 0.15), "coloured": (0.15, 0.6), "rich": (0.6, 1.0)}  # share of chords of four tones or more


@dataclass(frozen=True, slots=True)
class Wish:
    """A line of the brief; with `options`, one of these."""

    label: str
    hint: str = ""
    options: tuple[str, ...] = ()


WISHES: dict[str, Wish] = {
    "job": Wish("kind of job", options=("own track", "song for a voice", "music to picture", "loop piece", "for somebody else")),
    "length": Wish("length", "3:30"),
    "bars": Wish("bars", "96"),
    "tempo_class": Wish("tempo", options=tuple(TEMPOS)),
    "feel": Wish("feel", "leaning back, a little late"),
    "era": Wish("era", "tape and small rooms"),
    "instruments": Wish("instruments wanted", "felt piano, hand drums"),
    "harmony": Wish("harmony", options=tuple(RICHNESS)),
    "emotion": Wish("what the words feel", "leaving, without regret"),
    "audience": Wish("audience", "a small room, late"),
    "prompt": Wish("prompt", "two chords, no kick, over after a minute"),
    "due": Wish("due", "2027-01-31"),
    "done_when": Wish("done when", "the second chorus needs no explaining"),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Implied:
    """What a wish implies for the song as it is: `met`, not met, or None where only an ear or a calendar can say.

    `offer` is an edit that would meet it (its words, its fields), where one step can; `off` how far away it is, as a share.
    """

    wish: str
    said: str
    met: bool | None = None
    offer: tuple[str, dict[str, object]] | None = None
    off: float = 0.0


def read_wish(wish: str, text: str) -> str:
    """What is typed, as it is kept. Raises EditError for what cannot be read."""
    text = " ".join(str(text).split())
    known = WISHES.get(wish)
    if known is None:
        raise EditError(f"“{shown(wish)}” is no line of a brief. There are {', '.join(WISHES)}.")
    if len(text) > MAX_WISH:
        raise EditError(
            f"“{known.label}” has {len(text):,} characters; at most {MAX_WISH} fit. Shorten it, "
            f"or write it in the song's note."
        )
    if text and known.options and text not in known.options:
        raise EditError(f"“{shown(text)}” is no choice for {known.label}. Choose {', '.join(known.options)}.")
    if text and wish == "length":
        seconds_of(text)
    if text and wish == "bars" and not (text.isdigit() and 0 < int(text) <= MAX_BARS):
        raise EditError(f"“{shown(text)}” is no number of bars. Write one from 1 to {MAX_BARS}.")
    if text and wish == "due":
        read_day(text)
    return text


def seconds_of(text: str) -> int:
    """Seconds of '3:30'. Raises EditError."""
    match = re.fullmatch(r"(\d{1,2}):([0-5]\d)", text)
    if not match or text in ("0:00", "00:00"):
        raise EditError(f"“{shown(text)}” is no length. Write minutes and seconds, for example 3:30.")
    return 60 * int(match[1]) + int(match[2])


def read_brief(song: Song, today: date | None = None) -> list[Implied]:
    """What the brief implies, and where it contradicts itself. Days are counted from `today`, where given."""
    wanted = dict(song.brief)
    found = list(_contradictions(wanted, song))
    for wish, read in (NOTED | READERS).items():
        if wanted.get(wish):
            found += read(song, wanted[wish])
    if today and wanted.get("due"):
        days = (read_day(wanted["due"]) - today).days
        found.append(
            Implied(
                "due",
                f"{days} days are left."
                if days > 1
                else "It is due tomorrow."
                if days == 1
                else "It is due today."
                if not days
                else f"The day it was due, {wanted['due']}, has passed. Agree on another one.",
            )
        )
    return found


def _contradictions(wanted: dict[str, str], song: Song) -> Iterator[Implied]:
    if not (wanted.get("length") and wanted.get("bars")):
        return
    quarters = int(wanted["bars"]) * song.metre.bar_ticks / TICKS_PER_QUARTER
    tempo = 60 * quarters / seconds_of(wanted["length"])
    both = f"{wanted['length']} in {wanted['bars']} bars of {song.metre} would be {tempo:.0f} bpm"
    if not MIN_TEMPO_BPM <= tempo <= MAX_TEMPO_BPM:
        yield Implied(
            "bars", f"The brief contradicts itself: {both}; {MIN_TEMPO_BPM:g} to {MAX_TEMPO_BPM:g} are possible.", False
        )
        return
    low, high = TEMPOS.get(wanted.get("tempo_class", ""), (0, 999))
    if not low <= tempo <= high:
        yield Implied("bars", f"The brief contradicts itself: {both}, which is not {wanted['tempo_class']}.", False)
    else:
        yield Implied(
            "bars",
            f"{both}.",
            abs(song.tempo_bpm / tempo - 1) < NEAR,
            ("Set this tempo", {"kind": "set_tempo", "tempo_bpm": round(tempo, 1)}),
        )


def _length(song: Song, text: str) -> Iterator[Implied]:
    wanted, there = seconds_of(text), timeline(song).seconds
    bar = 60 * song.metre.bar_ticks / TICKS_PER_QUARTER / song.tempo_bpm
    off = round((wanted - there) / bar)
    more = f": about {abs(off)} bars {'more' if off > 0 else 'fewer'} at this tempo" if off else ""
    yield Implied(
        "length",
        f"{text} is wanted, {clock(there)} is there{more}.",
        abs(there - wanted) <= NEAR * wanted,
        off=abs(there - wanted) / wanted,
    )


def _tempo(song: Song, text: str) -> Iterator[Implied]:
    low, high = TEMPOS[text]
    met = low <= song.tempo_bpm <= high
    near = min(max(song.tempo_bpm, low), high)
    offer = None if met else (f"Set {near:g} bpm", {"kind": "set_tempo", "tempo_bpm": near})
    yield Implied(
        "tempo_class", f"{text.capitalize()} is {low} to {high} bpm; the song has {song.tempo_bpm:g}.", met, offer
    )


def _instruments(song: Song, text: str) -> Iterator[Implied]:
    played = {p.layer_id for s in song.sections for p in s.placements}
    layers = [x for x in song.layers if x.id in played and not x.muted]
    for wish in filter(None, (part.strip() for part in text.split(","))):
        found = [x.name for x in layers if _is(wish, _said(x))]
        if found:
            yield Implied("instruments", f"{wish}: {', '.join(found[:3])}.", True)
            continue
        sound = next((s for s in SOUNDS if _is(wish, f"{s.label} {s.family} {s.promise}")), None)
        offer: tuple[str, dict[str, object]] | None = (
            (f"Add {sound.label}", {"kind": "add_layer", "sound": sound.key}) if sound else None
        )
        yield Implied("instruments", f"{wish}: no layer that plays is called or sounds so.", False, offer)


def _said(layer: Layer) -> str:
    return f"{layer.name} {layer.sound.label} {layer.family} {layer.job}"


def _is(wish: str, text: str) -> bool:
    """Whether every word of a wish is in a text, its plural aside."""
    return all(word.rstrip("s") in text.lower() for word in wish.lower().split())


def _harmony(song: Song, text: str) -> Iterator[Implied]:
    chords = [c for span in timeline(song).spans for c in section_harmony(song, span).chords]
    if not chords:
        yield Implied("harmony", f"{text.capitalize()} is wanted; the song has no chords yet.", False)
        return
    share = sum(len(c.tones) > 3 for c in chords) / len(chords)
    low, high = RICHNESS[text]
    yield Implied(
        "harmony",
        f"{text.capitalize()} is wanted; {100 * share:.0f} % of the chords have four tones or more.",
        low <= share <= high,
    )


def _job(song: Song, text: str) -> Iterator[Implied]:
    """The kind of job stands for a school, which decides what the checks ask, and for a form to begin with."""
    school, form = JOBS.get(text, ("", ""))
    if not school:
        return
    label = SCHOOLS[school].label
    if song.school == school:
        yield Implied("job", f"{text.capitalize()}: judged as “{label}”.", True)
    else:
        yield Implied(
            "job",
            f"{text.capitalize()} is usually judged as “{label}”: {SCHOOLS[school].help} Now it "
            f"is “{SCHOOLS[song.school].label}”.",
            None,
            ("Judge it so", {"kind": "set_school", "school": school}),
        )
    if len(song.sections) == 1:
        wanted = FORMS[form]
        yield Implied(
            "job",
            f"A form to begin with: {wanted.text}.",
            None,
            (
                f"Apply: {wanted.label.lower()}",
                {"kind": "lay_out", "text": wanted.text, "source_id": song.sections[0].id},
            ),
        )


NOTED = {"job": _job}  # wishes that say how to go about it, and cannot be missed
READERS = {"length": _length, "tempo_class": _tempo, "instruments": _instruments, "harmony": _harmony}

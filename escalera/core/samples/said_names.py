"""What a file's name and its tags say of a recording, and where that is not what is heard."""

from __future__ import annotations

import re
from math import log2

from escalera.core.samples.reading import SampleReading
from escalera.core.theory.keys import Key, parse_key
from escalera.core.theory.pitch import nearest_fifths, pitch_label
from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass

BPM = re.compile(r"(?<![\d.])(\d{2,3}(?:\.\d+)?)\s*bpm\b|\bbpm\s*(\d{2,3})\b", re.I)
NUMBER = re.compile(r"(?<![\d.#b])(\d{2,3})(?![\d.]|\s*(?:hz|k|bit|bars?)\b)", re.I)
KEY = re.compile(r"(?<![A-Za-z#])([A-G])\s?(#|b|♯|♭|sharp|flat)?\s?(maj(?:or)?|min(?:or)?|m|M)?(?:7|9)?(?![A-Za-z#♯♭])")
SLOWEST, FASTEST = 55.0, 210.0
SAME_TEMPO = 0.02
SURE = 0.45  # below that the name is believed rather than what was read


@dataclass(frozen=True, slots=True)
class Said:
    """Tempo, key and note that a name gives; None where it gives none. A bare letter is a note or a key."""

    tempo_bpm: float | None = None
    key: Key | None = None
    bare: bool = False


@dataclass(frozen=True, slots=True)
class FileSays:
    """What tags and chunks of a file give: a tempo, a key as it is written there, a sampler's MIDI note."""

    tempo_bpm: float | None = None
    key: str = ""
    note: int | None = None

    @property
    def said(self) -> Said:
        """The same as what a name would say; a note counts where there is no key."""
        key, bare = _key(self.key) if self.key else (None, False)
        if key is None and self.note is not None:
            key, bare = (
                parse_key(f"{pitch_label(self.note, nearest_fifths(self.note % 12, 0)).rstrip('-0123456789')} major"),
                True,
            )
        return Said(self.tempo_bpm, key, bare)


@dataclass(frozen=True, slots=True)
class Contradiction:
    """Who says what, what is heard, and what decides between them."""

    by: str
    what: str
    said: str
    heard: str
    decides: str


NOTHING = FileSays()


def said_by(name: str) -> Said:
    """What a name says. Numbers without a unit count as a tempo where they could be one."""
    words = re.sub(r"[_\-.]+", " ", name)
    tempo = None
    match = BPM.search(words)
    if match:
        tempo = float(match.group(1) or match.group(2))
    else:
        numbers = [float(n) for n in NUMBER.findall(words) if SLOWEST <= float(n) <= FASTEST]
        tempo = numbers[0] if len(numbers) == 1 else None
    key, bare = _key(words)
    return Said(tempo, key, bare)


def _key(words: str) -> tuple[Key | None, bool]:
    found = []
    for match in KEY.finditer(words):
        letter, sign, mode = match.groups()
        if not sign and not mode and (letter == "A" or match.end() < len(words) - 1):
            continue  # an A is an article, a letter amid words an initial
        accidental = {"sharp": "#", "flat": "b", "♯": "#", "♭": "b"}.get(sign or "", sign or "")
        minor = bool(mode) and mode != "M" and not mode.lower().startswith("maj")
        try:
            found.append((parse_key(f"{letter}{accidental} {'minor' if minor else 'major'}"), not mode))
        except EscaleraError:
            continue
    return found[-1] if found else (None, False)


def contradictions(reading: SampleReading, name: str, in_file: FileSays = NOTHING) -> tuple[Contradiction, ...]:
    """Where a name, or the file's tags, and what is heard differ, each with what decides."""
    sources = (("its name", said_by(name)), ("its tags", in_file.said))
    rows = [compare(reading, said, by) for by, said in sources for compare in (_tempo, _music_key, _note)]
    return tuple(c for c in rows if c)


def _tempo(reading: SampleReading, said: Said, by: str) -> Contradiction | None:
    tempo = reading.tempo_bpm
    if not tempo or not said.tempo_bpm or abs(tempo / said.tempo_bpm - 1) <= SAME_TEMPO:
        return None
    ratio = tempo / said.tempo_bpm
    bars = f"{reading.bars} bars in {reading.seconds:.2f} s" if reading.bars else f"{reading.seconds:.2f} s of onsets"
    for times, word in ((2.0, "half"), (0.5, "double")):
        if abs(ratio / times - 1) <= SAME_TEMPO:
            return Contradiction(by, "tempo", f"{said.tempo_bpm:g} bpm", f"{tempo:.4g} bpm",
                                 f"That is {word} of it; both fit the same bars, so either may be meant.")  # fmt: skip
    decides = (
        f"Its onsets recur so, and it has {bars}"
        if reading.tempo_confidence >= SURE
        else f"Little begins in it: {by} may be right"
    )
    return Contradiction(by, "tempo", f"{said.tempo_bpm:g} bpm", f"{tempo:.4g} bpm", f"{decides}.")


def _music_key(reading: SampleReading, said: Said, by: str) -> Contradiction | None:
    if not reading.key or said.key is None:
        return None
    heard = parse_key(reading.key)
    same_third = heard.is_minor == said.key.is_minor or said.bare
    if heard.tonic_class == said.key.tonic_class and same_third:
        return None
    relative = said.key.classes == heard.classes
    if relative:
        decides = "They share all their notes; home is where its chords come to rest, and its basses lie."
    elif reading.key_confidence >= SURE:
        decides = (
            f"Only {len(heard.classes & said.key.classes)} of 7 notes are in both, and it keeps to those of {heard}."
        )
    else:
        decides = f"Its chords leave it open: {by} may be right."
    return Contradiction(
        by, "key", str(said.key) if not said.bare else said.key.spell(said.key.tonic_class), str(heard), decides
    )


def _note(reading: SampleReading, said: Said, by: str) -> Contradiction | None:
    if not reading.pitch_hz or said.key is None or reading.key:
        return None
    exact = 69 + 12 * log2(reading.pitch_hz / 440.0)
    note, cents = round(exact), 100 * (exact - round(exact))
    if note % 12 == said.key.tonic_class:
        return None
    steps = (note - said.key.tonic_class + 6) % 12 - 6
    apart = f"{abs(steps)} semitone{'s' if abs(steps) != 1 else ''} {'above' if steps > 0 else 'below'}"
    return Contradiction(
        by, "pitch", said.key.spell(said.key.tonic_class), pitch_label(note, nearest_fifths(note % 12, 0)),
        f"It settles at {reading.pitch_hz:.2f} Hz ({cents:+.0f} cents), {apart} that.".replace("-", "−"),
    )  # fmt: skip

"""Songs as people play them, with what is true of them: form, chords, keys. For holding the reading of music against truth.

A performance has sections of its own parts and chords, choruses that come back with layers added or a tone higher, timing about the
grid, velocities, pedal, pushes, passing tones and fills. FIT styles were looked at while the reading was made, JUDGE styles were not.
"""

from __future__ import annotations

import io
import math
import random
from dataclasses import dataclass, field

import mido

BEAT = 480
MAJOR, MINOR = (0, 2, 4, 5, 7, 9, 11), (0, 2, 3, 5, 7, 8, 10)
MODES = {
    "major": MAJOR, "minor": MINOR, "dorian": (0, 2, 3, 5, 7, 9, 10), "mixolydian": (0, 2, 4, 5, 7, 9, 10),
    "phrygian": (0, 1, 3, 5, 7, 8, 10), "lydian": (0, 2, 4, 6, 7, 9, 11),
}  # fmt: skip
# degrees from 1; a sign makes a chord that the scale has not: "5M" major on five (in minor), "4m" minor on four (in major)
LOOPS = {
    "major": {"A": ("1 6 4 5", "1 4 1 5", "1 3 4 5", "1 5 6 4", "2 5 1 6"), "B": ("4 5 1 6", "6 4 1 5", "1 5 4 4m", "4 1 5 1", "4 4 1 1")},
    "minor": {"A": ("1 6 3 7", "1 4 1 5M", "1 7 6 7", "1 1 4 4", "1 4 7 3"), "B": ("6 7 1 1", "4 1 5M 1", "6 3 7 1", "1 3 7 4", "6 4 1 5M")},
    "dorian": {"A": ("1 4 1 4", "1 1 4 4"), "B": ("1 7 4 1", "1 3 4 1")},
    "mixolydian": {"A": ("1 7 4 1", "1 1 7 4"), "B": ("1 4 7 1", "7 4 1 1")},
    "phrygian": {"A": ("1 2 1 2", "1 1 2 1"), "B": ("1 2 3 2", "1 7 2 1")},
    "lydian": {"A": ("1 2 1 2", "1 1 2 2"), "B": ("1 2 7 1", "1 5 2 1")},
}  # fmt: skip


@dataclass(frozen=True)
class Style:
    """How a band plays: beats a bar, tempo, the parts of its hands and when each of them plays."""

    beats: int
    tempo: tuple[int, int]
    chords_a_bar: tuple[int, ...]
    hands: tuple[tuple[str, str, int], ...]  # (name, texture, program)
    sevenths: float = 0.2


FIT = {
    "piano pop": Style(4, (80, 118), (1, 1, 2), (("Piano", "block", 0), ("Bass", "roots", 33), ("Strings", "pad", 48), ("Voice", "tune", 53), ("Drums", "kit", -1))),
    "guitar rock": Style(4, (110, 150), (1, 1), (("Gtr", "strum", 29), ("Bass", "eighths", 34), ("Lead", "tune", 30), ("Organ", "pad", 16), ("Drums", "kit", -1))),
    "dance": Style(4, (118, 128), (1,), (("Stab", "offbeat", 81), ("Sub", "roots", 38), ("Pad", "pad", 89), ("Pluck", "arpeggio", 84), ("Drums", "four", -1))),
}  # fmt: skip
JUDGE = {
    "waltz": Style(3, (90, 140), (1, 1), (("Klavier", "oompah", 0), ("Contrabasso", "roots", 32), ("Violine", "tune", 40), ("Cello", "pad", 42), ("Schlagzeug", "kit", -1)), 0.1),
    "soul": Style(4, (84, 104), (1, 2), (("E-Piano", "block", 4), ("Basse", "walking", 33), ("Brass", "offbeat", 61), ("Chant", "tune", 52), ("Batterie", "kit", -1)), 0.6),
    "film": Style(4, (66, 92), (1,), (("Harp", "arpeggio", 46), ("Low strings", "roots", 43), ("Strings", "pad", 48), ("Horn", "tune", 60), ("Choir", "pad", 52)), 0.15),
    "folk": Style(4, (96, 124), (1, 1, 2), (("Guitarra", "picking", 25), ("Bajo", "roots", 32), ("Flauta", "tune", 73), ("Acordeon", "pad", 21), ("Bateria", "kit", -1)), 0.05),
}  # fmt: skip
# (kind, bars, which hands play: index from 0)
FORMS = (
    (("I", 4, (0,)), ("A", 8, (0, 1, 4)), ("B", 8, (0, 1, 2, 3, 4)), ("A", 8, (0, 1, 2, 4)), ("B", 8, (0, 1, 2, 3, 4)), ("C", 8, (0, 2)), ("B", 8, (0, 1, 2, 3, 4)), ("I", 4, (0, 2))),
    (("I", 8, (0, 4)), ("A", 16, (0, 1, 3, 4)), ("B", 8, (0, 1, 2, 3, 4)), ("A", 16, (0, 1, 3, 4)), ("B", 8, (0, 1, 2, 3, 4)), ("B", 8, (0, 1, 2, 3, 4))),
    (("A", 8, (0,)), ("A", 8, (0, 1)), ("B", 8, (0, 1, 2, 4)), ("A", 8, (0, 1, 4)), ("B", 8, (0, 1, 2, 3, 4)), ("C", 4, (2,)), ("B", 8, (0, 1, 2, 3, 4))),
)  # fmt: skip


@dataclass
class Part:
    """One section as it is true."""

    kind: str
    first_bar: int
    bars: int
    shift: int
    chords: list[tuple[int, frozenset[int], int]]  # a slot each: root class, classes, bass class


@dataclass
class Performance:
    data: bytes
    tonic: int
    mode: str
    beats: int
    slots: int  # chords a bar
    parts: list[Part] = field(default_factory=list)

    @property
    def edges(self) -> list[int]:
        return [p.first_bar for p in self.parts]

    @property
    def bars(self) -> list[tuple[int, frozenset[int], int]]:
        """The chord on the one of every bar."""
        return [p.chords[b * self.slots] for p in self.parts for b in range(p.bars)]


def _chord(word: str, tonic: int, mode: str, seventh: bool) -> tuple[int, tuple[int, ...]]:
    scale = MODES[mode]
    degree, sign = int(word[0]) - 1, word[1:]
    root = scale[degree]
    tones = [(scale[(degree + 2 * i) % 7] - root) % 12 for i in range(4 if seventh else 3)]
    if sign == "M":
        tones = [0, 4, 7] + [10] * seventh
    elif sign == "m":
        tones = [0, 3, 7]
    if tones[2] == 6 and len(tones) == 3 and sign == "":
        tones = [0, 3, 6]
    return (tonic + root) % 12, tuple(tones)


def perform(seed: int, styles: dict[str, Style], loose: bool = True) -> Performance:
    """The performance of a seed; `loose` plays it about the grid, with pedal, pushes and velocities."""
    dice = random.Random(seed)
    style = styles[sorted(styles)[seed % len(styles)]]
    mode = dice.choice(("major", "major", "minor", "minor", "dorian", "mixolydian", "phrygian", "lydian"))
    tonic, slots = dice.randrange(12), dice.choice(style.chords_a_bar)
    if len(LOOPS[mode]["A"]) == 2:
        slots = 1
    tempo = dice.randint(*style.tempo)
    form, loops = dice.choice(FORMS), {k: dice.choice(LOOPS[mode][k]).split() for k in "AB"}
    loops["C"] = (loops["B"][2:] + loops["A"][:2]) if dice.random() < 0.6 else list(reversed(loops["A"]))
    loops["I"] = loops["A"]
    higher = dice.choice((0, 0, 0, 1, 2))
    shown = Performance(b"", tonic, mode, style.beats, slots)
    band = _Band(dice, style, tempo, loose)
    figures: dict[str, int] = {}
    bar, last_b = 0, max(i for i, row in enumerate(form) if row[0] == "B")
    for index, (kind, bars, hands) in enumerate(form):
        shift = higher if index == last_b else 0
        chords = []
        for slot in range(bars * slots):
            word = loops[kind][slot % 4]
            if index == len(form) - 1 and slot >= bars * slots - slots:
                word = "1"
            seventh = random.Random(f"{seed}{kind}{slot % 4}").random() < style.sevenths
            chords.append(_chord(word, tonic, mode, seventh and word != "1"))
        figure = figures.setdefault("A" if kind == "I" else kind, dice.randrange(10**6))
        band.section(bar, bars, [(r + shift, t) for r, t in chords], hands, figure, slots, (tonic + shift, mode))
        shown.parts.append(
            Part(kind, bar, bars, shift, [((r + shift) % 12, frozenset((r + shift + t) % 12 for t in tones), (r + shift) % 12) for r, tones in chords])
        )  # fmt: skip
        bar += bars
    shown.data = band.file(bar)
    return shown


class _Band:
    """Plays sections into tracks, on and about the grid."""

    def __init__(self, dice: random.Random, style: Style, tempo: int, loose: bool):
        self.dice, self.style, self.tempo, self.loose = dice, style, tempo, loose
        self.tracks: list[list[tuple[int, int, mido.Message]]] = [[] for _ in style.hands]
        self.ms = BEAT * tempo / 60_000  # ticks a millisecond
        self.lean = [dice.uniform(-8, 8) * self.ms if loose else 0.0 for _ in style.hands]

    def section(self, bar, bars, chords, hands, figure, slots, key):
        self.at, self.bars, self.chords, self.slots, self.key = bar * self.bar, bars, chords, slots, key
        for hand in hands:
            name, texture, _ = self.style.hands[hand]
            getattr(self, f"_{texture}")(hand, random.Random(figure + 7 * hand))

    @property
    def bar(self):
        return self.style.beats * BEAT

    def note(self, hand, start, length, pitch, velocity=80):
        channel = 9 if self.style.hands[hand][2] < 0 else hand
        if self.loose:
            start += round(self.lean[hand] + max(-25.0, min(25.0, self.dice.gauss(0, 9))) * self.ms)
            length = round(length * self.dice.uniform(0.82, 1.0))
            velocity = max(20, min(120, velocity + round(self.dice.gauss(0, 7))))
        start = max(0, round(start))
        track = self.tracks[hand]
        track.append((start, 1, mido.Message("note_on", note=pitch, velocity=velocity, channel=channel)))
        track.append((start + max(20, round(length)), 0, mido.Message("note_off", note=pitch, channel=channel)))

    def slot(self):
        """(start, length, root, tones) of every chord."""
        size = self.bar // self.slots
        for i, (root, tones) in enumerate(self.chords):
            yield self.at + i * size, size, root % 12, tones

    def voiced(self, root, tones, low):
        return sorted(low + (root + t - low) % 12 for t in tones)

    def _block(self, hand, figure):
        rhythm = figure.choice(((0.0,), (0.0, 0.5), (0.0, 0.375, 0.5)))
        for start, size, root, tones in self.slot():
            for part in rhythm:
                for pitch in self.voiced(root, tones, 55):
                    self.note(hand, start + part * size, size * (0.95 / len(rhythm)), pitch, 74)
            if self.loose:
                self.tracks[hand].append(
                    (start + 30, 2, mido.Message("control_change", control=64, value=127, channel=hand))
                )
                self.tracks[hand].append(
                    (start + size - 20, 2, mido.Message("control_change", control=64, value=0, channel=hand))
                )

    def _strum(self, hand, figure):
        hits = figure.choice(((0, 1, 1.5, 2.5, 3), (0, 0.5, 1, 2, 2.5, 3), (0, 1.5, 2, 3.5)))
        for start, size, root, tones in self.slot():
            pitches = [40 + (root - 40) % 12, *self.voiced(root, tones[:3], 52)]
            for hit in hits:
                if hit * BEAT < size:
                    for i, pitch in enumerate(pitches):
                        self.note(hand, start + hit * BEAT + i * 8, BEAT * 0.45, pitch, 82)

    def _picking(self, hand, figure):
        order = figure.choice(((0, 2, 1, 3), (0, 1, 2, 3), (0, 3, 1, 2)))
        for start, size, root, tones in self.slot():
            pitches = [40 + (root - 40) % 12, *self.voiced(root, tones[:3], 55)]
            for i in range(round(size / BEAT * 2)):
                self.note(hand, start + i * BEAT / 2, BEAT * 0.9, pitches[order[i % 4]], 70)

    def _offbeat(self, hand, figure):
        for start, size, root, tones in self.slot():
            for i in range(round(size / BEAT)):
                for pitch in self.voiced(root, tones, 58):
                    self.note(hand, start + (i + 0.5) * BEAT, BEAT * 0.3, pitch, 78)

    def _oompah(self, hand, figure):
        for start, size, root, tones in self.slot():
            self.note(hand, start, BEAT * 0.9, 43 + (root - 43) % 12, 80)
            for i in range(1, round(size / BEAT)):
                for pitch in self.voiced(root, tones, 55):
                    self.note(hand, start + i * BEAT, BEAT * 0.6, pitch, 66)

    def _arpeggio(self, hand, figure):
        order = figure.choice(((0, 1, 2, 3), (0, 2, 1, 2), (3, 2, 1, 0)))
        for start, size, root, tones in self.slot():
            pitches = self.voiced(root, tones[:3], 57)
            pitches.append(pitches[0] + 12)
            for i in range(round(size / BEAT * 4)):
                self.note(hand, start + i * BEAT / 4, BEAT * 0.3, pitches[order[i % 4]], 72)

    def _pad(self, hand, figure):
        low = 50 if hand % 2 else 60
        for start, size, root, tones in self.slot():
            for pitch in self.voiced(root, tones[:3], low):
                self.note(hand, start, size * 0.98, pitch, 60)

    def _roots(self, hand, figure):
        rhythm = figure.choice(((0.0,), (0.0, 0.5), (0.0, 0.75)))
        for start, size, root, _ in self.slot():
            for part in rhythm:
                self.note(hand, start + part * size, size * 0.4, 33 + (root - 33) % 12, 86)

    def _eighths(self, hand, figure):
        for start, size, root, _ in self.slot():
            for i in range(round(size / BEAT * 2)):
                self.note(hand, start + i * BEAT / 2, BEAT * 0.45, 33 + (root - 33) % 12, 84)

    def _walking(self, hand, figure):
        scale = [(self.key[0] + s) % 12 for s in MODES[self.key[1]]]
        for start, size, root, tones in self.slot():
            steps = [0, tones[1], tones[2], tones[1]]
            for i in range(round(size / BEAT)):
                pitch = 36 + (root + steps[i % 4] - 36) % 12
                if i == round(size / BEAT) - 1:
                    pitch += figure.choice((-1, 1, 2)) if pitch % 12 in scale else 0
                    pitch = pitch if pitch % 12 in scale else pitch + 1
                self.note(hand, start + i * BEAT, BEAT * 0.8, pitch, 84)

    def _tune(self, hand, figure):
        """Chord tones where the beat is strong, steps between; the same tune wherever the section comes back."""
        scale = [(self.key[0] + s) % 12 for s in MODES[self.key[1]]]
        pitch, shape = 72, [figure.choice((1, 1, 0.5, 0.5, 2)) for _ in range(400)]
        turns, at, i = [figure.choice((-1, 1, 1, -1, 2)) for _ in range(400)], 0.0, 0
        rests = [figure.random() < 0.2 for _ in range(400)]
        end = self.bars * self.style.beats
        while at < end:
            length = min(shape[i], end - at)
            root, tones = self.chords[min(len(self.chords) - 1, int(at / self.style.beats * self.slots))]
            classes = [(root + t) % 12 for t in tones] if at % 2 == 0 or at % self.style.beats == 0 else scale
            step = turns[i]
            for _ in range(abs(step)):
                pitch += 1 if step > 0 else -1
                while pitch % 12 not in classes:
                    pitch += 1 if step > 0 else -1
            pitch += 12 * (pitch < 62) - 12 * (pitch > 82)
            if not rests[i]:
                early = (
                    BEAT / 2 if self.loose and at >= 1 and at % self.style.beats == 0 and figure.random() < 0.1 else 0
                )
                self.note(hand, self.at + at * BEAT - early, length * BEAT * 0.9, pitch, 88)
            at, i = at + length, i + 1

    def _kit(self, hand, figure):
        kick = figure.choice(((0, 2), (0, 1.5, 2), (0, 2.5)))
        for bar in range(self.bars):
            start = self.at + bar * self.bar
            if bar == 0:
                self.note(hand, start, BEAT, 49, 96)
            for i in range(self.style.beats * 2):
                self.note(hand, start + i * BEAT / 2, 60, 42, 70)
            if bar == self.bars - 1:
                for i in range(8):
                    self.note(hand, start + self.bar - BEAT * 2 + i * BEAT / 4, 60, (38, 48, 45, 43)[i // 2], 90)
                self.note(hand, start, 60, 36, 100)
                continue
            for k in kick:
                if k < self.style.beats:
                    self.note(hand, start + k * BEAT, 60, 36, 100)
            for s in (1, 3) if self.style.beats == 4 else (1, 2):
                self.note(hand, start + s * BEAT, 60, 38, 96)

    def _four(self, hand, figure):
        for beat in range(self.bars * self.style.beats):
            start = self.at + beat * BEAT
            self.note(hand, start, 60, 36, 104)
            self.note(hand, start + BEAT / 2, 60, 46, 76)
            if beat % 2:
                self.note(hand, start, 60, 39, 88)

    def file(self, bars):
        out = mido.MidiFile(type=1, ticks_per_beat=BEAT)
        head = mido.MidiTrack()
        head.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(self.tempo)))
        head.append(mido.MetaMessage("time_signature", numerator=self.style.beats, denominator=4))
        out.tracks.append(head)
        for (name, _, program), rows in zip(self.style.hands, self.tracks):
            track, now = mido.MidiTrack(), 0
            track.append(mido.MetaMessage("track_name", name=name))
            if program >= 0:
                track.append(
                    mido.Message("program_change", program=program, channel=self.style.hands.index((name, _, program)))
                )
            for at, _, message in sorted(rows, key=lambda row: (row[0], row[1])):
                track.append(message.copy(time=at - now))
                now = at
            out.tracks.append(track)
        written = io.BytesIO()
        out.save(file=written)
        return written.getvalue()


def freely(data: bytes, seed: int) -> tuple[bytes, list[float]]:
    """A performance played without a click, at 120 bpm in the file whatever its own tempo, and where its beats fall in seconds: they
    breathe over phrases by a twentieth, and wander."""
    dice, source = random.Random(seed), mido.MidiFile(file=io.BytesIO(data))
    events = [(m, track) for track in source.tracks for m in track]
    tempo = next(m.tempo for m, _ in events if m.type == "set_tempo") / 1e6
    end = max(sum(m.time for m in track) for track in source.tracks) // source.ticks_per_beat + 8
    beats, wander, phase = [0.37], 0.0, dice.random() * 6
    for beat in range(int(end)):
        wander = 0.92 * wander + dice.gauss(0, 0.012)
        beats.append(beats[-1] + tempo * (1 + 0.05 * math.sin(beat / 24 * math.pi + phase) + wander))
    out = mido.MidiFile(ticks_per_beat=BEAT)
    for track in source.tracks:
        made, now, last = mido.MidiTrack(), 0, 0
        for message in track:
            now += message.time
            if message.type in ("set_tempo", "time_signature", "key_signature", "marker"):
                continue
            place, rest = divmod(now / source.ticks_per_beat, 1)
            at = round((beats[int(place)] * (1 - rest) + beats[int(place) + 1] * rest) * 2 * BEAT)
            made.append(message.copy(time=max(0, at - last)))
            last = max(at, last)
        out.tracks.append(made)
    written = io.BytesIO()
    out.save(file=written)
    return written.getvalue(), beats

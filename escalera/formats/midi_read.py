"""Reading Standard MIDI Files, types 0 and 1, from any program: facts, no judgement.

Every note-on with a velocity above 0 keeps its track, pitch, velocity and tick (rounded once to 960 a quarter).
Ends pair first in, first out; a note is at least one tick long; notes still held by the sustain pedal end with it.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Callable
from dataclasses import field, replace
from math import log10

from escalera.cleaning import clean_line
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.errors import FormatError
from escalera.formats.midi_scan import BEND, CONTROL, META, NOTE_OFF, NOTE_ON, Event, scan_midi
from escalera.lazy_dataclasses import dataclass

LONGEST_TICKS = 64 * 4 * TICKS_PER_QUARTER  # a note that was never ended sounds no longer
SUSTAIN, VOLUME, PLACE, EXPRESSION = 64, 7, 10, 11
DATA, RPN_LOW, RPN_HIGH = 6, 100, 101
BEND_REACH, BENT = 2, 0.75  # semitones: how far a bend reaches unless said, and how far it has to have come
USUAL_VOLUME = 100  # of a channel that says nothing
DRUM_CHANNEL = 9
TRACK_NAME, INSTRUMENT, MARKER, CUE, TEMPO, METRE, KEY = 0x03, 0x04, 0x06, 0x07, 0x51, 0x58, 0x59
KEYS = (  # by fifths
    "Cb", "Gb", "Db", "Ab", "Eb", "Bb", "F", "C", "G", "D", "A", "E", "B", "F#", "C#", "G#", "D#", "A#",
)  # fmt: skip
SMPTE_TEMPO_BPM = 120.0
NoteRow = tuple[int, int, int, int]  # start tick, duration, pitch, velocity


@dataclass
class ChannelNotes:
    """Notes of one channel of one track."""

    track: int
    channel: int
    name: str
    program: int | None = None
    level_db: float | None = None
    pan: float | None = None
    notes: list[NoteRow] = field(default_factory=list)


@dataclass
class MidiFacts:
    """What a file says, on the 960 grid. Lists are ordered by tick."""

    title: str
    parts: list[ChannelNotes]
    tempos: list[tuple[int, float]]
    metres: list[tuple[int, int, int]]
    keys: list[tuple[int, str]]
    markers: list[tuple[int, str]]
    end_tick: int
    dropped: dict[str, int]
    cues: list[tuple[int, str]] = field(default_factory=list)


def read_midi(data: bytes) -> MidiFacts:
    """Facts of a MIDI file. Raises FormatError with a plain sentence."""
    scan = scan_midi(data)
    to_tick = _clock(scan.division)
    facts = MidiFacts("", [], [], [], [], [], 0, defaultdict(int, scan.dropped))
    for index, track in enumerate(scan.tracks):
        _Track(index, track, to_tick, facts).read()
    facts.markers = (
        facts.markers or facts.cues
    )  # where both are there, cue points tell what happens, not where parts begin
    facts.parts = [part for part in facts.parts if part.notes]
    if not facts.parts:
        raise FormatError("The file holds no notes. Export it again with its tracks.")
    for rows in (facts.tempos, facts.metres, facts.keys, facts.markers):
        rows.sort(key=lambda row: row[0])
    return facts


def _clock(division: int) -> Callable[[int], int]:
    """A function from the file's ticks to ours. SMPTE divisions count time; they are laid at 120 bpm."""
    if division & 0x8000:
        frames = 256 - (division >> 8)
        rate = {29: 30000 / 1001}.get(frames, frames) * (division & 0xFF)
        if not rate:
            raise FormatError("The MIDI file counts 0 ticks a frame, so its notes have no time. Export it again.")
        per_second = SMPTE_TEMPO_BPM / 60.0 * TICKS_PER_QUARTER
        return lambda tick: int(tick * per_second / rate + 0.5)
    if division == 0:
        raise FormatError("The MIDI file counts 0 ticks a quarter, so its notes have no time. Export it again.")
    return lambda tick: (tick * TICKS_PER_QUARTER * 2 + division) // (2 * division)


@dataclass(slots=True)
class _Struck:
    """A note that sounds: when and how hard it was struck, in which part, and how loud its channel was then."""

    start: int
    velocity: int
    part: ChannelNotes
    level_db: float
    bent: int = 0  # semitones


class _Track:
    """Walks one track once. Notes of one channel under another program are a part of their own."""

    def __init__(self, index: int, track: list[Event], to_tick: Callable[[int], int], facts: MidiFacts):
        self.index, self.track, self.to_tick, self.facts = index, track, to_tick, facts
        self.name = ""
        self.parts: dict[tuple[int, int | None], ChannelNotes] = {}  # by channel and program
        self.programs: dict[int, int] = {}
        self.volumes: dict[int, dict[int, int]] = defaultdict(dict)  # by channel: volume and expression
        self.pans: dict[int, float] = {}
        self.levels: dict[int, list[float]] = defaultdict(list)  # by identity of a part: its level at every note
        self.open: dict[tuple[int, int], deque[_Struck]] = defaultdict(deque)
        self.held: dict[int, list[tuple[_Struck, int]]] = defaultdict(list)  # by channel: ends wait for the pedal
        self.pedal: dict[int, bool] = defaultdict(bool)
        self.bent: dict[int, int] = defaultdict(int)  # by channel: semitones that its bend has reached
        self.reach: dict[int, int] = defaultdict(lambda: BEND_REACH)
        self.asked: dict[int, list[int]] = defaultdict(
            lambda: [127, 127]
        )  # by channel: the registered parameter that is set

    def read(self) -> None:
        now = 0
        for tick, status, first, second, text in self.track:
            now = self.to_tick(tick)
            if status >= META:
                self._meta(status & 0xFF, text, now)
                continue
            kind, channel = status & 0xF0, status & 0x0F
            if kind == NOTE_ON and second:
                self.open[channel, first].append(
                    _Struck(now, second, self._part(channel), self._level_db(channel), self.bent[channel])
                )
            elif kind in (NOTE_ON, NOTE_OFF):
                self._note_off(channel, first, now)
            elif kind == CONTROL:
                self._control_change(channel, first, second, now)
            elif kind == BEND:
                self._bend(channel, first + 128 * second - 8192, now)
            else:
                self.programs[channel] = first
        self._close_all(now)
        for part in self.parts.values():
            part.name = self.name or part.name
            self._settle_level(part)
            part.notes.sort()
        self.facts.parts += list(self.parts.values())
        self.facts.end_tick = max(self.facts.end_tick, now)

    def _part(self, channel: int) -> ChannelNotes:
        program = self.programs.get(channel)
        key = (channel, None if channel == DRUM_CHANNEL else program)
        if key not in self.parts:
            self.parts[key] = ChannelNotes(self.index, channel, "", program, pan=self.pans.get(channel))
        return self.parts[key]

    def _level_db(self, channel: int) -> float:
        found = self.volumes[channel]
        if not found:
            return 0.0
        loud = found.get(VOLUME, USUAL_VOLUME) / 127.0 * found.get(EXPRESSION, 127) / 127.0
        return max(-60.0, 40.0 * log10(loud)) if loud > 0 else -60.0

    def _settle_level(self, part: ChannelNotes) -> None:
        """The level in the middle of a part's notes is the part's; fades and swells about it go into the velocities."""
        levels = self.levels[id(part)]
        if not self.volumes[part.channel] or not levels:
            return
        part.level_db = sorted(levels)[len(levels) // 2]
        if min(levels) == max(levels):
            return
        part.notes = [
            (start, length, pitch, min(127, max(1, round(v * 10 ** ((db - part.level_db) / 30.0)))))
            for (start, length, pitch, v), db in zip(part.notes, levels)
        ]

    def _note_off(self, channel: int, pitch: int, now: int) -> None:
        waiting = self.open[channel, pitch]
        if not waiting:
            return
        struck = waiting.popleft()
        if self.pedal[channel]:
            self.held[channel].append((struck, pitch))
        else:
            self._end(struck, pitch, now)

    def _end(self, struck: _Struck, pitch: int, now: int) -> None:
        length = min(max(1, now - struck.start), LONGEST_TICKS)
        struck.part.notes.append((struck.start, length, min(127, max(0, pitch + struck.bent)), struck.velocity))
        self.levels[id(struck.part)].append(struck.level_db)

    def _control_change(self, channel: int, control: int, value: int, now: int) -> None:
        if control == SUSTAIN:
            down = value >= 64
            if not down:
                self._lift_pedal(channel, now)
            elif not self.pedal[channel]:
                self.facts.dropped["sustain pedal (kept as longer notes)"] += 1
            self.pedal[channel] = down
        elif control in (VOLUME, EXPRESSION):
            self.volumes[channel][control] = value
        elif control == PLACE:
            self.pans.setdefault(channel, max(-1.0, (value - 64) / 63.0))
        elif control in (RPN_HIGH, RPN_LOW):
            self.asked[channel][control == RPN_LOW] = value
        elif control == DATA:
            if self.asked[channel] == [0, 0]:  # the registered parameter for the reach of bends
                self.reach[channel] = min(24, value)
        else:
            self.facts.dropped["other controller"] += 1

    def _bend(self, channel: int, value: int, now: int) -> None:
        """A bend is read as the notes it reaches: what sounds goes on a semitone or more away once it is three quarters there."""
        semitones = value / 8192.0 * self.reach[channel]
        if channel == DRUM_CHANNEL or abs(semitones - self.bent[channel]) < BENT:
            return
        self.bent[channel] = round(semitones)
        self.facts.dropped["bend (kept as the notes it reaches)"] += 1
        for (sounding, pitch), waiting in self.open.items():
            if sounding == channel:
                for struck in list(waiting):
                    if now > struck.start:
                        self._end(struck, pitch, now)
                        waiting[waiting.index(struck)] = replace(struck, start=now, bent=self.bent[channel])
                    else:
                        waiting[waiting.index(struck)] = replace(struck, bent=self.bent[channel])

    def _lift_pedal(self, channel: int, now: int) -> None:
        for struck, pitch in self.held.pop(channel, []):
            self._end(struck, pitch, now)

    def _close_all(self, now: int) -> None:
        for (_, pitch), waiting in self.open.items():
            for struck in waiting:
                self._end(struck, pitch, max(now, struck.start + 1))
        for channel in list(self.held):
            self._lift_pedal(channel, now)

    def _meta(self, kind: int, data: bytes, now: int) -> None:
        facts = self.facts
        if kind == TEMPO:
            tempo_us = int.from_bytes(data, "big")
            if tempo_us:
                facts.tempos.append((now, 60_000_000 / tempo_us))
        elif kind == METRE:
            facts.metres.append((now, data[0], 2 ** min(data[1], 16)))
        elif kind == KEY:
            sharps = int.from_bytes(data[:1], "big", signed=True)
            if -7 <= sharps <= 7 and data[1] < 2:
                facts.keys.append((now, KEYS[sharps + 7 + (3 if data[1] else 0)] + ("m" if data[1] else "")))
        elif kind in (TRACK_NAME, INSTRUMENT):
            name = clean_line(_decoded(data), 80)
            self.name = (name or self.name) if kind == TRACK_NAME else (self.name or name)
            if kind == TRACK_NAME and self.index == 0 and not facts.title:
                facts.title = self.name
        elif kind in (MARKER, CUE):
            rows = facts.markers if kind == MARKER else facts.cues
            rows.append((now, clean_line(_decoded(data), 80)))


def _decoded(data: bytes) -> str:
    """Text of a file, as UTF-8 where it is that, else as Latin-1, which is what the format says."""
    try:
        return data.decode()
    except UnicodeDecodeError:
        return data.decode("latin-1")

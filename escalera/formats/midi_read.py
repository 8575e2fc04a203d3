"""Reading Standard MIDI Files, types 0 and 1, from any program: facts, no judgement.

Every note-on with a velocity above 0 keeps its track, pitch, velocity and tick (rounded once to 960 a quarter).
Ends pair first in, first out; a note is at least one tick long; notes still held by the sustain pedal end with it.
"""

from __future__ import annotations

import io
from collections import defaultdict, deque
from dataclasses import dataclass, field

import mido

from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.errors import FormatError, shown

MAX_EVENTS = 2_000_000
MAX_BYTES = 6_000_000
MAX_NOTES = 200_000
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


def read_midi(data: bytes) -> MidiFacts:
    """Facts of a MIDI file. Raises FormatError with a plain sentence."""
    if len(data) > MAX_BYTES:
        raise FormatError(
            f"The MIDI file has {len(data) / 1e6:.0f} MB; at most {MAX_BYTES / 1e6:.0f} MB are "
            f"read. Split it over several files."
        )
    file = _parse(data)
    to_tick = _clock(file, data)
    facts = MidiFacts("", [], [], [], [], [], 0, defaultdict(int))
    count = 0
    for index, track in enumerate(file.tracks):
        count += len(track)
        if count > MAX_EVENTS:
            raise FormatError(f"The file has more than {MAX_EVENTS:,} events, the most that is read. Split it.")
        _Track(index, track, to_tick, facts).read()
    facts.parts = [part for part in facts.parts if part.notes]
    notes = sum(len(part.notes) for part in facts.parts)
    if notes == 0:
        raise FormatError("The file holds no notes. Export it again with its tracks.")
    if notes > MAX_NOTES:
        raise FormatError(
            f"The file holds {notes:,} notes; at most {MAX_NOTES:,} are read. Split it over several files."
        )
    for rows in (facts.tempos, facts.metres, facts.keys, facts.markers):
        rows.sort(key=lambda row: row[0])
    return facts


def _parse(data: bytes) -> mido.MidiFile:
    if data[:4] != b"MThd":
        raise FormatError(
            "This is not a MIDI file: it does not begin with a MIDI header. Choose a file that ends in .mid."
        )
    try:
        file = mido.MidiFile(file=io.BytesIO(data), clip=True)
    except EOFError as error:
        raise FormatError(
            "The MIDI file ends in the middle of a track; it seems to be cut off. Copy or export it again."
        ) from error
    except Exception as error:  # mido has no root exception for malformed files
        raise FormatError(f"The MIDI file is damaged and cannot be read ({shown(error)}). Export it again.") from error
    if file.type == 2:
        raise FormatError(
            "This MIDI file is of type 2 (independent patterns). Types 0 and 1 are read; export it as type 1."
        )
    if len(file.tracks) < int.from_bytes(data[10:12], "big"):
        raise FormatError("The MIDI file ends before its last track; it seems to be cut off. Copy or export it again.")
    return file


def _clock(file: mido.MidiFile, data: bytes):  # type: ignore[no-untyped-def]
    """A function from the file's ticks to ours. SMPTE divisions count time; they are laid at 120 bpm."""
    division = int.from_bytes(data[12:14], "big")
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


class _Track:
    """Walks one track once."""

    def __init__(self, index: int, track: mido.MidiTrack, to_tick, facts: MidiFacts):  # type: ignore[no-untyped-def]
        self.index, self.track, self.to_tick, self.facts = index, track, to_tick, facts
        self.name = ""
        self.parts: dict[int, ChannelNotes] = {}
        self.open: dict[tuple[int, int], deque[tuple[int, int, int]]] = defaultdict(deque)
        self.held: dict[int, list[tuple[int, int, int]]] = defaultdict(list)  # by channel: ends wait for the pedal
        self.pedal: dict[int, bool] = defaultdict(bool)

    def read(self) -> None:
        raw = now = 0
        for message in self.track:
            raw += message.time
            now = self.to_tick(raw)
            handler = getattr(self, f"_{message.type}", None)
            if handler:
                handler(message, now)
            elif not message.is_meta:
                self.facts.dropped[message.type.replace("_", " ")] += 1
        self._close_all(now)
        for part in self.parts.values():
            part.name = self.name or part.name
            part.notes.sort()
        self.facts.parts += list(self.parts.values())
        self.facts.end_tick = max(self.facts.end_tick, now)

    def _part(self, channel: int) -> ChannelNotes:
        if channel not in self.parts:
            self.parts[channel] = ChannelNotes(self.index, channel, "")
        return self.parts[channel]

    def _note_on(self, message: mido.Message, now: int) -> None:
        if message.velocity == 0:
            return self._note_off(message, now)
        part = self._part(message.channel)
        self.open[message.channel, message.note].append((now, message.velocity, len(part.notes)))
        return None

    def _note_off(self, message: mido.Message, now: int) -> None:
        waiting = self.open[message.channel, message.note]
        if not waiting:
            return
        start, velocity, _ = waiting.popleft()
        if self.pedal[message.channel]:
            self.held[message.channel].append((start, message.note, velocity))
        else:
            self._end(message.channel, start, message.note, velocity, now)

    def _end(self, channel: int, start: int, pitch: int, velocity: int, now: int) -> None:
        self._part(channel).notes.append((start, max(1, now - start), pitch, velocity))

    def _control_change(self, message: mido.Message, now: int) -> None:
        part = self._part(message.channel)
        if message.control == 64:
            down = message.value >= 64
            if not down:
                self._lift_pedal(message.channel, now)
            elif not self.pedal[message.channel]:
                self.facts.dropped["sustain pedal (kept as longer notes)"] += 1
            self.pedal[message.channel] = down
        elif message.control == 7 and part.level_db is None:
            part.level_db = -60.0 if message.value == 0 else max(-60.0, 40.0 * _log10(message.value / 127.0))
        elif message.control == 10 and part.pan is None:
            part.pan = max(-1.0, (message.value - 64) / 63.0)
        else:
            self.facts.dropped["other controller"] += 1

    def _lift_pedal(self, channel: int, now: int) -> None:
        for start, pitch, velocity in self.held.pop(channel, []):
            self._end(channel, start, pitch, velocity, now)

    def _close_all(self, now: int) -> None:
        for (channel, pitch), waiting in self.open.items():
            for start, velocity, _ in waiting:
                self._end(channel, start, pitch, velocity, max(now, start + 1))
        for channel in list(self.held):
            self._lift_pedal(channel, now)

    def _program_change(self, message: mido.Message, now: int) -> None:
        part = self._part(message.channel)
        if part.program is None or not part.notes:
            part.program = message.program

    def _track_name(self, message: mido.MetaMessage, now: int) -> None:
        self.name = " ".join(message.name.split())[:80] or self.name
        if self.index == 0 and not self.facts.title:
            self.facts.title = self.name

    def _instrument_name(self, message: mido.MetaMessage, now: int) -> None:
        self.name = self.name or " ".join(message.name.split())[:80]

    def _set_tempo(self, message: mido.MetaMessage, now: int) -> None:
        if message.tempo > 0:
            self.facts.tempos.append((now, 60_000_000 / message.tempo))

    def _time_signature(self, message: mido.MetaMessage, now: int) -> None:
        self.facts.metres.append((now, message.numerator, message.denominator))

    def _key_signature(self, message: mido.MetaMessage, now: int) -> None:
        self.facts.keys.append((now, message.key))

    def _marker(self, message: mido.MetaMessage, now: int) -> None:
        self.facts.markers.append((now, " ".join(message.text.split())[:80]))

    _cue_marker = _marker


def _log10(value: float) -> float:
    from math import log10

    return log10(value)

"""The bytes of a MIDI file as events: whether it is whole, how much is in it, and what of it the program uses.

A library for this takes some 15 µs an event in objects, and minutes for a megabyte of nonsense; this walk takes 2 µs, stops
at the first thing that cannot be, counts while it reads, and leaves out what is not used.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import field

from escalera.errors import FormatError
from escalera.lazy_dataclasses import dataclass

MAX_BYTES = 6_000_000
MAX_EVENTS = 600_000  # of all kinds
MAX_NOTES = 80_000
MAX_CHANGES = 20_000  # of tempo, metre, key and markers together
MAX_TRACKS = 256
MAX_TEXT_BYTES = 400
NOTE_OFF, NOTE_ON, PRESSURE, CONTROL, PROGRAM, CHANNEL_PRESSURE, BEND = 0x80, 0x90, 0xA0, 0xB0, 0xC0, 0xD0, 0xE0
CONTROLS = frozenset({6, 7, 10, 11, 64, 100, 101})  # volume, place, expression, sustain pedal; how far a bend reaches
END_OF_TRACK = 0x2F
TEXTS = frozenset({0x03, 0x04, 0x06, 0x07})  # names of track and instrument, markers, cues
FACTS = {0x51: 3, 0x58: 4, 0x59: 2}  # tempo, metre and key with their lengths
DROPPED = {PRESSURE: "polytouch", CHANNEL_PRESSURE: "aftertouch", CONTROL: "other controller"}
CUT_OFF = "The MIDI file ends in the middle of a track; it seems to be cut off. Copy or export it again."
DAMAGED = "The MIDI file is damaged and cannot be read ({}). Export it again."


Event = tuple[int, int, int, int, bytes]  # tick, status (a meta event's kind from META on), two data bytes, text
META = 0x100


@dataclass
class Scan:
    """The tracks of a file as events in order, and how often came what is not used. `division` is as the header has it."""

    division: int
    tracks: list[list[Event]] = field(default_factory=list)
    dropped: Counter[str] = field(default_factory=Counter)
    events: int = 0
    notes: int = 0
    changes: int = 0


def scan_midi(data: bytes) -> Scan:
    """Walk a file of type 0 or 1. Raises FormatError with a plain sentence where it is damaged or too much."""
    if len(data) > MAX_BYTES:
        raise FormatError(
            f"The MIDI file has {len(data) / 1e6:.0f} MB; at most {MAX_BYTES / 1e6:.0f} MB are read. Split it over several files."
        )
    if data[:4] != b"MThd" or len(data) < 14:
        raise FormatError(
            "This is not a MIDI file: it does not begin with a MIDI header. Choose a file that ends in .mid."
        )
    size, kind, wanted = (int.from_bytes(data[a:b], "big") for a, b in ((4, 8), (8, 10), (10, 12)))
    if kind == 2:
        raise FormatError(
            "This MIDI file is of type 2 (independent patterns). Types 0 and 1 are read; export it as type 1."
        )
    if kind > 2 or not 6 <= size <= 1_000:
        raise FormatError(DAMAGED.format(f"its header says type {kind} and {size} bytes"))
    if wanted > MAX_TRACKS:
        raise FormatError(f"The MIDI file has {wanted:,} tracks; at most {MAX_TRACKS} are read. Merge some.")
    found, at = Scan(int.from_bytes(data[12:14], "big")), 8 + size
    while at + 8 <= len(data) and len(found.tracks) < wanted:
        name, length = data[at : at + 4], int.from_bytes(data[at + 4 : at + 8], "big")
        if at + 8 + length > len(data):
            raise FormatError(CUT_OFF)
        if name == b"MTrk":
            found.tracks.append(_Walk(data, at + 8, at + 8 + length, found).track())
        at += 8 + length
    if len(found.tracks) < wanted:
        raise FormatError("The MIDI file ends before its last track; it seems to be cut off. Copy or export it again.")
    return found


class _Walk:
    """One track, event by event."""

    def __init__(self, data: bytes, at: int, end: int, found: Scan):
        self.data, self.at, self.end, self.found = data, at, end, found
        self.out: list[Event] = []

    def number(self) -> int:
        """A length or a time: seven bits a byte, four bytes at most."""
        value = 0
        for _ in range(4):
            if self.at >= self.end:
                raise FormatError(CUT_OFF)
            byte = self.data[self.at]
            self.at += 1
            value = value << 7 | byte & 0x7F
            if byte < 0x80:
                return value
        raise FormatError(DAMAGED.format("a time of more than four bytes"))

    def track(self) -> list[Event]:
        status = now = 0
        data, found = self.data, self.found
        while self.at < self.end:
            if data[self.at] < 0x80:  # nearly always: a time of one byte
                now += data[self.at]
                self.at += 1
            else:
                now += self.number()
            if self.at >= self.end:
                raise FormatError(CUT_OFF)
            byte = data[self.at]
            if byte >= 0x80:
                self.at += 1
                status = byte
            elif not 0x80 <= status < 0xF0:
                raise FormatError(DAMAGED.format("an event without a kind"))
            found.events += 1
            if found.events > MAX_EVENTS:
                raise FormatError(f"The file has more than {MAX_EVENTS:,} events, the most that is read. Split it.")
            if status < 0xF0:
                self.channel(now, status)
            elif status == 0xFF:
                self.meta(now)
            elif status in (0xF0, 0xF7):
                length = self.number()
                self.at += length
                found.dropped["sysex"] += 1
            else:
                raise FormatError(DAMAGED.format(f"an event of the kind {status:#x}"))
            if self.at > self.end:
                raise FormatError(CUT_OFF)
        self.out.append((now, META | END_OF_TRACK, 0, 0, b""))
        return self.out

    def channel(self, now: int, status: int) -> None:
        kind, at = status & 0xF0, self.at
        size = 1 if kind in (PROGRAM, CHANNEL_PRESSURE) else 2
        self.at += size
        if self.at > self.end:
            raise FormatError(CUT_OFF)
        if kind in (NOTE_ON, NOTE_OFF):
            if kind == NOTE_ON and self.data[at + 1]:
                self.found.notes += 1
                if self.found.notes > MAX_NOTES:
                    raise FormatError(
                        f"The file holds more than {MAX_NOTES:,} notes, the most that are read. Split it over several files."
                    )
        elif kind not in (PROGRAM, BEND) and not (kind == CONTROL and self.data[at] in CONTROLS):
            self.found.dropped[DROPPED[kind]] += 1
            return
        first, second = self.data[at], self.data[at + 1] if size == 2 else 0
        self.out.append((now, status, min(first, 0x7F), min(second, 0x7F), b""))

    def meta(self, now: int) -> None:
        if self.at >= self.end:
            raise FormatError(CUT_OFF)
        kind = self.data[self.at]
        self.at += 1
        length, at = self.number(), self.at
        self.at += length
        if self.at > self.end:
            raise FormatError(CUT_OFF)
        if kind == END_OF_TRACK:
            self.at = self.end  # what stands behind the end of a track is not read
            return
        if FACTS.get(kind) != length and kind not in TEXTS:
            return
        self.found.changes += 1
        if self.found.changes > MAX_CHANGES:
            raise FormatError(
                f"The file has more than {MAX_CHANGES:,} changes of tempo, metre and key and markers, the most that are read. "
                f"Thin them out and export it again."
            )
        self.out.append((now, META | kind, 0, 0, self.data[at : at + min(length, MAX_TEXT_BYTES)]))

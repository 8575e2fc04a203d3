"""Sheets as MusicXML 4.0 (score-partwise)."""

from __future__ import annotations

from xml.etree import ElementTree as Tree

from escalera.core.handing.sheets import Sheet, SheetBar, SheetNote, SheetPart
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key

DIVISIONS, TICKS = 24, 40  # of a quarter note; ticks of one division
DOCTYPE = '<!DOCTYPE score-partwise PUBLIC "-//Recordare//DTD MusicXML 4.0 Partwise//EN" "http://www.musicxml.org/dtds/partwise.dtd">'
LETTERS = "FCGDAEB"
KINDS = {
    "": "major", "m": "minor", "dim": "diminished", "aug": "augmented", "5": "power", "sus2": "suspended-second", "sus4": "suspended-fourth",
    "6": "major-sixth", "m6": "minor-sixth", "7": "dominant", "maj7": "major-seventh", "m7": "minor-seventh", "mmaj7": "major-minor",
    "dim7": "diminished-seventh", "m7b5": "half-diminished", "7#5": "augmented-seventh", "9": "dominant-ninth", "maj9": "major-ninth",
    "m9": "minor-ninth", "11": "dominant-11th", "maj11": "major-11th", "m11": "minor-11th", "13": "dominant-13th", "maj13": "major-13th",
    "m13": "minor-13th",
}  # fmt: skip
MODES = {"major", "minor", "dorian", "phrygian", "lydian", "mixolydian", "aeolian", "ionian", "locrian"}


def write_musicxml(sheet: Sheet, creator: str = "") -> bytes:
    """Bytes of a MusicXML 4.0 file. A sheet without staves has one that rests."""
    root = Tree.Element("score-partwise", version="4.0")
    _text(_sub(root, "work"), "work-title", sheet.title or "Untitled")
    identification = _sub(root, "identification")
    if creator:
        _text(identification, "creator", creator, type="composer")
    _text(_sub(identification, "encoding"), "software", "Escalera")
    listed = _sub(root, "part-list")
    for i, part in enumerate(sheet.parts, 1):
        _text(_sub(listed, "score-part", id=f"P{i}"), "part-name", part.name)
    for i, part in enumerate(sheet.parts, 1):
        _part(_sub(root, "part", id=f"P{i}"), part)
    body = Tree.tostring(root, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{DOCTYPE}\n{body}\n'.encode()


def _sub(parent: Tree.Element, element: str, **attributes: str) -> Tree.Element:
    return Tree.SubElement(parent, element, {k.replace("_", "-"): v for k, v in attributes.items()})


def _text(parent: Tree.Element, element: str, said: object, **attributes: str) -> Tree.Element:
    made = _sub(parent, element, **attributes)
    made.text = str(said)
    return made


def _part(parent: Tree.Element, part: SheetPart) -> None:
    before: SheetBar | None = None
    for bar in part.bars:
        measure = _sub(parent, "measure", number=str(bar.number))
        _attributes(measure, bar, before, part.low)
        _directions(measure, bar, before)
        if bar.repeat_from:
            line = _sub(measure, "barline", location="left")
            _text(line, "bar-style", "heavy-light")
            _sub(line, "repeat", direction="forward")
        _music(measure, bar)
        if bar.repeat_to:
            line = _sub(measure, "barline", location="right")
            _text(line, "bar-style", "light-heavy")
            _sub(line, "repeat", direction="backward", times="2")
        before = bar


def _attributes(measure: Tree.Element, bar: SheetBar, before: SheetBar | None, low: bool) -> None:
    new = before is None
    keyed, metred = new or before.key != bar.key, new or before.metre != bar.metre  # type: ignore[union-attr]
    if not (keyed or metred):
        return
    found = _sub(measure, "attributes")
    if new:
        _text(found, "divisions", DIVISIONS)
    if keyed:
        key = _sub(found, "key")
        _text(key, "fifths", max(-7, min(7, bar.key.signature)))
        mode = bar.key.mode if bar.key.mode in MODES else "none"
        _text(key, "mode", mode)
    if metred:
        time = _sub(found, "time")
        _text(time, "beats", bar.metre.numerator)
        _text(time, "beat-type", bar.metre.denominator)
    if new:
        clef = _sub(found, "clef")
        _text(clef, "sign", "F" if low else "G")
        _text(clef, "line", 4 if low else 2)


def _directions(measure: Tree.Element, bar: SheetBar, before: SheetBar | None) -> None:
    if bar.section:
        direction = _sub(measure, "direction", placement="above")
        _text(_sub(direction, "direction-type"), "rehearsal", bar.section)
    if before is None or abs(before.tempo_bpm - bar.tempo_bpm) > 0.01:
        direction = _sub(measure, "direction", placement="above")
        metronome = _sub(_sub(direction, "direction-type"), "metronome")
        _text(metronome, "beat-unit", "quarter")
        _text(metronome, "per-minute", f"{bar.tempo_bpm:g}")
        _sub(direction, "sound", tempo=f"{bar.tempo_bpm:g}")


def _music(measure: Tree.Element, bar: SheetBar) -> None:
    chords = dict(bar.chords)
    for note in bar.notes:
        for tick in sorted(t for t in chords if t < note.start + note.length):
            _harmony(measure, chords.pop(tick), (tick - note.start) // TICKS)
        _note(measure, note, bar)


def _harmony(measure: Tree.Element, chord: Chord, offset: int) -> None:
    found = _sub(measure, "harmony")
    root = _sub(found, "root")
    step, alter = spelled(chord.root_fifths)
    _text(root, "root-step", step)
    if alter:
        _text(root, "root-alter", alter)
    _text(found, "kind", KINDS.get(chord.quality, "other"), text=chord.quality)
    if chord.bass_fifths is not None and chord.bass_fifths != chord.root_fifths:
        bass, (step, alter) = _sub(found, "bass"), spelled(chord.bass_fifths)
        _text(bass, "bass-step", step)
        if alter:
            _text(bass, "bass-alter", alter)
    if offset:
        _text(found, "offset", offset)


def spelled(fifths: int) -> tuple[str, int]:
    """Letter and alteration of a place on the line of fifths (0 is C)."""
    return LETTERS[(fifths + 1) % 7], (fifths + 1) // 7


def _note(measure: Tree.Element, note: SheetNote, bar: SheetBar) -> None:
    for number, pitch in enumerate(note.pitches or (None,)):
        found = _sub(measure, "note")
        if number:
            _sub(found, "chord")
        if pitch is None:
            _sub(found, "rest")
        else:
            _pitch(_sub(found, "pitch"), pitch, bar.key)
        _text(found, "duration", note.length // TICKS)
        for tied, kind in ((note.tied_from, "stop"), (note.tied_on, "start")):
            if tied and pitch is not None:
                _sub(found, "tie", type=kind)
        _text(found, "type", note.value)
        for _ in range(note.dots):
            _sub(found, "dot")
        if note.triplet:
            times = _sub(found, "time-modification")
            _text(times, "actual-notes", 3)
            _text(times, "normal-notes", 2)
        if pitch is not None and (note.tied_from or note.tied_on):
            notations = _sub(found, "notations")
            for tied, kind in ((note.tied_from, "stop"), (note.tied_on, "start")):
                if tied:
                    _sub(notations, "tied", type=kind)
        if note.syllable and not number:
            lyric = _sub(found, "lyric", number="1")
            _text(lyric, "syllabic", note.syllabic or "single")
            _text(lyric, "text", note.syllable)


def _pitch(parent: Tree.Element, pitch: int, key: Key) -> None:
    """Spelled as the key spells it: the place on the line of fifths nearest to its own."""
    near = min((f for f in range(-14, 20) if (7 * f) % 12 == pitch % 12), key=lambda f: abs(f - (key.signature + 2)))
    step, alter = spelled(near)
    _text(parent, "step", step)
    if alter:
        _text(parent, "alter", alter)
    _text(parent, "octave", (pitch - alter) // 12 - 1)

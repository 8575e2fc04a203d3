"""Commands of counting and harmony: chords, key, times."""

from __future__ import annotations

import json
from pathlib import Path

import click

from escalera.cli.common import song_from, studio
from escalera.core.document.chord_text import parse_chordline
from escalera.core.document.limits import MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.reading.key_reading import key_reading
from escalera.core.theory.chords import roman
from escalera.core.theory.keys import key_text, parse_key
from escalera.core.theory.note_roles import held_over
from escalera.core.theory.pitch import FLAT, SHARP, fifths_to_class, name_to_fifths
from escalera.core.time.metre import Metre
from escalera.core.time.note_values import VALUES, value_ms
from escalera.errors import InputError, shown
from escalera.services.music_report import music_report, read_source

SHOWN_VALUES = tuple(name for name in VALUES if not name.startswith("1/64"))


def _ascii(name: str) -> str:
    return name.replace(FLAT, "b").replace(SHARP, "#")


@click.command()
@click.argument("progression", metavar="CHORDS|FILE")
@click.option("--key", "key_name", default="C major", help="The key, for spelling and numerals.")
@click.option("--held", default="", help="Notes held through all chords, for example 'A' or 'A E'.")
@click.option("--json", "as_json", is_flag=True)
def chords(progression: str, key_name: str, held: str, as_json: bool) -> None:
    """Tones and numerals of chords ("Dm Bb F C", "i | VI III"), and what held notes are over them; or the chords of a FILE."""
    if _is_file(progression):
        _say_music(progression, as_json)
        return
    key = parse_key(key_name)
    read = parse_chordline(progression, key, Metre())
    if read is None:
        raise InputError("There are no chords in an empty line. Write for example “Dm Bb F C”.")
    row = [chord for _, chord in read.changes]
    classes = [fifths_to_class(name_to_fifths(note)) for note in held.replace(",", " ").split()]
    table = held_over(classes, row, key)
    report = {
        "key": key_text(key),
        "chords": [
            {
                "symbol": c.name(ascii_only=True),
                "roman": roman(c, key),
                "notes": [_ascii(n) for n in c.note_names],
                "held": [{"note": _ascii(h.note), "role": h.role, "clash": h.clash} for h in cells],
            }
            for c, cells in zip(row, table)
        ],
    }
    if as_json:
        click.echo(json.dumps(report))
        return
    for chord, cells in zip(row, table):
        roles = "  ".join(f"{h.note}: {h.role}" + (f" (clash: {h.resolves})" if h.clash else "") for h in cells)
        click.echo(f"{chord!s:10} {roman(chord, key):8} {' '.join(chord.note_names):16} {roles}".rstrip())


def _is_file(text: str) -> bool:
    """Whether an argument names a file; chords hold spaces or bars and are short."""
    return len(text) < 500 and "\0" not in text and Path(text).is_file()


def _say_music(source: str, as_json: bool) -> None:
    """Chords and sections of a file."""
    with studio() as opened:
        report = music_report(read_source(song_from(source, opened), Path(source)))
    if as_json:
        click.echo(json.dumps(report))
        return
    click.echo(f"{report['key']} {report['mode']} (confidence {report['confidence']:.0%})")
    for section in report["sections"]:
        like = f", like {section['like']}" if section["like"] else ""
        click.echo(f"{section['name']}: bar {section['first_bar']}, {section['bars']} bars{like}")
        bars = range(section["first_bar"], section["first_bar"] + section["bars"])
        click.echo(
            "  " + " ".join(("| " if c["beat"] == 1 else "") + c["chord"] for c in report["chords"] if c["bar"] in bars)
        )


@click.command()
@click.argument("source", metavar="FILE")
@click.option("--json", "as_json", is_flag=True)
def key(source: str, as_json: bool) -> None:
    """The key of a SONG or FILE from its chords and notes, likeliest first."""
    with studio() as opened:
        song = song_from(source, opened)
    found = key_reading(song)
    read = read_source(song, Path(source) if _is_file(source) else None)
    if found is None:
        raise InputError(
            f"“{shown(source)}” holds no pitched notes and no chords, so it has no key. Choose a file with notes."
        )
    if as_json:
        rows = [{"key": key_text(c.key), "score": c.score} for c in found.candidates]
        more = {"candidates": rows, "margin": round(found.margin, 4), "tuning_hz": song.tuning_hz}
        click.echo(json.dumps({**music_report(read), **more}))
        return
    if read.reading.key is not None:
        click.echo(f"{read.reading.key.key} (confidence {read.reading.key.confidence:.0%})")
    for c in found.candidates[:4]:
        click.echo(f"{c.key!s:14} {c.score:.3f}")
    relative = " (its relative)" if found.best.relative() == found.second else ""
    click.echo(
        f"{found.best} before {found.second}{relative} by {found.margin:.3f}; the label says "
        f"{song.key}; A is {song.tuning_hz:g} Hz"
    )


@click.command()
@click.option("--tempo", "tempo_bpm", type=float, required=True, help="Quarters a minute.")
@click.option("--json", "as_json", is_flag=True)
def times(tempo_bpm: float, as_json: bool) -> None:
    """Note values in milliseconds at a tempo: echo times, pre-delays, modulation, releases."""
    if not MIN_TEMPO_BPM <= tempo_bpm <= MAX_TEMPO_BPM:
        raise InputError(
            f"A tempo of {tempo_bpm:g} bpm lies outside {MIN_TEMPO_BPM:g} to {MAX_TEMPO_BPM:g}. "
            f"Choose one between them."
        )
    ms = {name: round(value_ms(name, tempo_bpm), 3) for name in SHOWN_VALUES}
    if as_json:
        click.echo(json.dumps({"tempo_bpm": tempo_bpm, "ms": ms}))
        return
    for name, value in ms.items():
        click.echo(f"{name:14} {value:9.2f} ms {1000 / value:8.3f} a second")


COMMANDS = (chords, key, times)

"""A form as text or as a table: sections with their bars, or with where they begin; read from others, written for others.

Text has a line a section, `Verse 1: 16 bars; energy 3 to 5; chords Am | F | C | G; key +2; tempo 120; time 3/4`, under lines for the whole song
(`Title: …`, `Tempo: 118`, `Key: A minor`, `Time: 4/4`). Tables have a head; columns are known by the words of COLUMNS.
"""

from __future__ import annotations

import csv
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import field, replace
from typing import Any

from escalera.core.document.chord_text import parse_chordline, write_chordline
from escalera.core.document.form_text import numbered, parse_form
from escalera.core.document.limits import MAX_BARS, MAX_NAME, MAX_SECTIONS, MAX_TITLE
from escalera.core.document.names import clean_name, guess_role
from escalera.core.document.song import ROLES, Section, Song, default_phrases
from escalera.core.document.target import Target
from escalera.core.edits.section_edits import USUAL_TARGET
from escalera.core.edits.song_edits import tempo_of
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import key_text, parse_key
from escalera.core.time.metre import Metre, parse_metre
from escalera.core.time.tempo import TempoPoint
from escalera.errors import EscaleraError, InputError, shown
from escalera.lazy_dataclasses import dataclass

COLUMNS = {
    "name": ("section", "name", "part", "marker", "label", "title"),
    "role": ("role",),
    "bars": ("bars", "length", "length in bars"),
    "first_bar": ("first bar", "bar", "start bar"),
    "start": ("seconds", "start", "time", "position", "begins"),
    "end": ("end", "ends"),
    "tempo": ("tempo bpm", "tempo", "bpm"),
    "metre": ("metre", "meter", "time signature", "signature"),
    "key": ("key",),
    "energy": ("energy wanted", "energy"),
    "chords": ("chords",),
}
USUAL_LAST_BARS = 8
OFF_BARS = 0.1  # of a bar that a marker may lie off its line unsaid


@dataclass(frozen=True, slots=True)
class FormRow:
    """A section as it is written down; what is empty or None is not said. `start_s` and `end_s` are seconds from the start of the song."""

    name: str
    bars: int | None = None
    role: str = ""
    energy: str = ""
    chords: str = ""
    tempo: str = ""
    metre: str = ""
    key: str = ""
    first_bar: int | None = None
    start_s: float | None = None
    end_s: float | None = None


@dataclass(frozen=True, slots=True)
class FormSheet:
    """A whole form, with what is said of the song; `end_s` is where it ends, where that is known."""

    rows: tuple[FormRow, ...]
    title: str = ""
    tempo: str = ""
    key: str = ""
    metre: str = ""
    end_s: float | None = None
    report: list[str] = field(default_factory=list)


# reading -------------------------------------------------------------------------------------------------------------------------


def read_form_sheet(text: str) -> FormSheet:
    """A table where the first line is a head of known columns, else lines of text. Raises InputError that says which line cannot be read."""
    lines = [line for line in text.replace("\ufeff", "").splitlines() if line.strip()]
    if not lines:
        raise InputError("The form is empty. Write a line a section, for example “Verse 1: 16 bars”.")
    return _table(lines) or _lines(lines)


def _table(lines: list[str]) -> FormSheet | None:
    mark = max(",;\t", key=lines[0].count)
    known = {word: column for column, words in COLUMNS.items() for word in words}
    head = [known.get(cell.strip().casefold(), "") for cell in next(csv.reader([lines[0]], delimiter=mark))]
    if "name" not in head or not {"bars", "start", "first_bar"} & set(head):
        return None
    rows = [_row(head, cells, number) for number, cells in enumerate(csv.reader(lines[1:], delimiter=mark), 2) if any(cells)]  # fmt: skip
    first = rows[0] if rows else None
    if first is None:
        raise InputError("The table has a head and no row. Write a row a section under it.")
    return FormSheet(tuple(rows), tempo=first.tempo, key=first.key, metre=first.metre)


def _row(head: Sequence[str], cells: Sequence[str], number: int) -> FormRow:
    found: dict[str, str] = {}
    for column, cell in zip(head, cells):
        if column and cell.strip() and column not in found:
            found[column] = cell.strip().lstrip("'")
    where = f"Line {number} of the table"
    seconds = {name: seconds_of(found[name], where) for name in ("start", "end") if name in found}
    whole: dict[str, Any] = {name: _whole(found[name], where, name) for name in ("bars", "first_bar") if name in found}
    rest: dict[str, Any] = {
        name: found[name] for name in ("role", "energy", "chords", "tempo", "metre", "key") if name in found
    }
    times: dict[str, Any] = {"start_s": seconds.get("start"), "end_s": seconds.get("end"), **whole, **rest}
    return FormRow(found.get("name", f"Part {number - 1}"), **times)


def seconds_of(text: str, where: str = "The time") -> float:
    """Seconds of a clock time (1:04.615, 0:01:04.6) or a plain number. Raises InputError."""
    match = re.fullmatch(r"(?:(\d{1,2}):)?(\d{1,3}):(\d{1,2}(?:[.,]\d+)?)|(\d+(?:[.,]\d+)?)\s*s?", text.strip())
    if not match:
        raise InputError(f"{where}: “{shown(text)}” is no time. Write seconds, or minutes and seconds as 1:04.6.")
    if match[4]:
        return float(match[4].replace(",", "."))
    return int(match[1] or 0) * 3600 + int(match[2]) * 60 + float(match[3].replace(",", "."))


def _whole(text: str, where: str, what: str) -> int:
    match = re.match(r"\s*(\d{1,4})(?:[.\s]|$)", text)
    if not match or (what == "bars" and not int(match[1])):
        raise InputError(f"{where}: “{shown(text)}” is no number of bars. Write a whole number from 1 on.")
    return int(match[1])


HEADS = {"title": "title", "tempo": "tempo", "bpm": "tempo", "key": "key", "time": "metre", "time signature": "metre", "metre": "metre"}  # fmt: skip
PARTS: dict[str, Callable[[str], dict[str, str]]] = {
    "energy": lambda words: {"energy": words}, "chords": lambda words: {"chords": words}, "key": lambda words: {"key": words},
    "tempo": lambda words: {"tempo": words}, "time": lambda words: {"metre": words}, "role": lambda words: {"role": words},
}  # fmt: skip


def _lines(lines: Iterable[str]) -> FormSheet:
    said: dict[str, Any] = {}
    rows: list[FormRow] = []
    for number, line in enumerate(lines, 1):
        name, colon, rest = line.partition(":")
        if colon and name.strip().casefold() in HEADS and not rows:
            said[HEADS[name.strip().casefold()]] = rest.strip()
        elif colon:
            rows.append(_section(name.strip(), rest, number))
        elif not line.lstrip().startswith("#"):
            rows += [FormRow(n, bars) for n, bars in parse_form(line)]
    if not rows:
        raise InputError("There is no section in it. Write a line a section, for example “Verse 1: 16 bars”.")
    return FormSheet(tuple(rows), **said)


def _section(name: str, rest: str, number: int) -> FormRow:
    first, *more = (part.strip() for part in rest.split(";"))
    match = re.fullmatch(r"(\d{1,4})(?:\s*bars?)?", first)
    if not match or not int(match[1]):
        raise InputError(f"Line {number}, {shown(name)}: “{shown(first)}” is no number of bars. Write for example “{shown(name)}: 16 bars”.")  # fmt: skip
    found: dict[str, Any] = {}
    for part in filter(None, more):
        word, _, words = part.partition(" ")
        if word.casefold() not in PARTS:
            raise InputError(f"Line {number}, {shown(name)}: “{shown(part)}” begins with none of {', '.join(PARTS)}.")
        found |= PARTS[word.casefold()](words.strip())
    return FormRow(name, int(match[1]), **found)


# a song of it --------------------------------------------------------------------------------------------------------------------


def song_of_form(sheet: FormSheet) -> tuple[Song, tuple[str, ...]]:
    """A song with the sections of a form and nothing in them yet, and what is worth saying. Raises InputError that names the section."""
    tempo = tempo_of(sheet.tempo) if sheet.tempo else 0.0
    timed = any(r.bars is None and r.start_s is not None for r in sheet.rows)
    if timed and not tempo:
        raise InputError(
            "The markers are in seconds, and no tempo is said, so that they are no bars yet. Give the tempo."
        )
    song = Song(
        title=clean_name(sheet.title or "From a form", "title", MAX_TITLE), tempo_bpm=tempo or 120.0, metre=parse_metre(sheet.metre or "4/4"),
        key=parse_key(sheet.key or "C major"), school="balanced",
    )  # fmt: skip
    rows, report = _with_bars(sheet, song)
    if len(rows) > MAX_SECTIONS or sum(r.bars or 0 for r in rows) > MAX_BARS:
        raise InputError(
            f"{len(rows)} sections with {sum(r.bars or 0 for r in rows)} bars are more than the {MAX_SECTIONS} sections and {MAX_BARS} bars of a song."
        )
    sections = []
    names = [name for name, _ in numbered([(r.name, r.bars or 0) for r in rows])]
    for number, row in enumerate(rows, 1):
        try:
            sections.append(_made(song, replace(row, name=names[number - 1]), number))
        except EscaleraError as error:
            raise InputError(f"{shown(row.name)}: {error}") from error
    return replace(song, sections=tuple(sections), next_id=len(sections) + 1), tuple(report)


def _made(song: Song, row: FormRow, number: int) -> Section:
    role = row.role if row.role in ROLES else guess_role(row.name)
    bars = row.bars or USUAL_LAST_BARS
    metre = parse_metre(row.metre) if row.metre else song.metre
    shift = _shift(song, row.key)
    tempo = tempo_of(row.tempo) if row.tempo else song.tempo_bpm
    chords = parse_chordline(row.chords, song.key, metre) if row.chords else None
    return Section(
        number, clean_name(row.name, "name", MAX_NAME), role, bars, default_phrases(bars), _target(row.energy, role), shift_semitones=shift,
        metre_changes=((0, metre),) if metre != song.metre else (), tempo_changes=(TempoPoint(0, tempo),) if abs(tempo - song.tempo_bpm) > 1e-6 else (),
        progression=chords,
    )  # fmt: skip


def _shift(song: Song, text: str) -> int:
    """Semitones from the song's key to a section's, up to six either way."""
    if re.fullmatch(r"[+-−]?\d{1,2}", text.strip()) and text.strip():
        return int(text.replace("−", "-"))
    if not text.strip():
        return 0
    return (parse_key(text).tonic_class - song.key.tonic_class + 6) % 12 - 6


def _target(text: str, role: str) -> Target:
    if not text:
        return Target(*USUAL_TARGET[role])
    values = [float(v.replace(",", ".")) for v in re.findall(r"\d+(?:[.,]\d+)?", text)]
    if not values or max(values) > 10:
        raise InputError(f"“{shown(text)}” is no energy. Write 0 to 10, or where it goes, as “3 to 5”.")
    return Target(values[0], values[-1])


def _with_bars(sheet: FormSheet, song: Song) -> tuple[list[FormRow], list[str]]:
    """Rows with their bars: said, or counted from one beginning to the next."""
    rows, report = list(sheet.rows), list(sheet.report)
    if all(r.bars is not None for r in rows):
        return rows, report
    bar_s = song.metre.bar_ticks / 960 * 60.0 / song.tempo_bpm
    starts = [float(r.first_bar - 1) if r.first_bar is not None else (r.start_s or 0.0) / bar_s for r in rows]
    order = sorted(range(len(rows)), key=lambda i: starts[i])
    rows, starts = [rows[i] for i in order], [starts[i] for i in order]
    if round(starts[0]) > 0:
        rows, starts = [FormRow("Start"), *rows], [0.0, *starts]
    last_s = sheet.end_s or rows[-1].end_s
    ends = [*starts[1:], last_s / bar_s if last_s else starts[-1] + USUAL_LAST_BARS]
    made: list[FormRow] = []
    for row, start, after in zip(rows, starts, ends):
        if abs(start - round(start)) > OFF_BARS:
            report.append(f"{row.name} begins {abs(start - round(start)):.2f} bars off a bar line, and is laid on bar {round(start) + 1}.")  # fmt: skip
        own = row.end_s / bar_s if row.end_s is not None else after
        bars = round(min(own, after)) - round(start)
        if bars >= 1:
            made.append(replace(row, bars=bars))
        else:
            report.append(f"{row.name} is shorter than half a bar, and was left out.")
        if bars >= 1 and round(after) - round(own) >= 1 and row.end_s is not None:
            made.append(FormRow("Between", round(after) - round(own)))
    if not made:
        raise InputError("No section in it is as long as a bar. Say the tempo at which it was made.")
    return made, report


# writing -------------------------------------------------------------------------------------------------------------------------


def form_text(song: Song) -> str:
    """The form as text that is read back by `read_form_sheet`."""
    lines = [
        f"Title: {song.title}",
        f"Tempo: {song.tempo_bpm:g}",
        f"Key: {key_text(song.key)}",
        f"Time: {song.metre}",
        "",
    ]
    for span in timeline(song).spans:
        s = span.section
        parts = [f"{s.bars} bars", f"energy {s.target.start:g} to {s.target.end:g}"]
        if s.role not in ("none", guess_role(s.name)):
            parts.append(f"role {s.role}")
        chords = s.progression or song.progression
        if chords is not None:
            parts.append(f"chords {write_chordline(chords, _metre(song, s))}")
        if s.shift_semitones:
            parts.append(f"key {s.shift_semitones:+d}")
        if abs(span.tempo_points[0][1] - song.tempo_bpm) > 1e-6:
            parts.append(f"tempo {span.tempo_points[0][1]:g}")
        if _metre(song, s) != song.metre:
            parts.append(f"time {_metre(song, s)}")
        lines.append(f"{s.name.replace(':', ' ').replace(';', ' ')}: {'; '.join(parts)}")
    return "\n".join(lines) + "\n"


def _metre(song: Song, section: Section) -> Metre:
    return section.metre_changes[0][1] if section.metre_changes and section.metre_changes[0][0] == 0 else song.metre


__all__ = ["FormRow", "FormSheet", "form_text", "read_form_sheet", "seconds_of", "song_of_form"]

"""A list of remarks as people write them, a line each: `0:45 hats too loud`, `Ana: last chorus, more voice`, `bar 17: the fill drags`."""

from __future__ import annotations

import re
from bisect import bisect_right

from escalera.cleaning import clean_line
from escalera.core.document.limits import MAX_NAME, MAX_REMARK
from escalera.core.document.names import guess_role
from escalera.core.document.song import Section, Song
from escalera.core.reading.timeline import Timeline, timeline
from escalera.lazy_dataclasses import dataclass

BULLET = re.compile(r"^\s*(?:[-*•–]|\d{1,2}[.)])\s+")
CLOCK = re.compile(r"^(?:at|from|around|about|ca\.?)?\s*[\[(]?(\d{1,2}(?::[0-5]\d){1,2}(?:[.,]\d{1,3})?)(?:\s*(?:-|–|to)\s*\d{1,2}(?::[0-5]\d){1,2})?[\])]?", re.I)  # fmt: skip
BARS = re.compile(r"^(?:at|from|in)?\s*(?:bars?|b\.|measures?|m\.)\s*(\d{1,4})(?:\s*(?:-|–|to)\s*\d{1,4})?", re.I)
LISTENER = re.compile(r"^(?:#+\s*)?(?:from\s+)?([^\W\d_][\w.' -]{0,38}?)\s*:\s*(.*)$", re.I)
HEADER = re.compile(r"^(?:#+\s+|from\s+)([^\W\d_][\w.' -]{0,38}?)\s*:?$", re.I)
NTH = {
    "first": 0,
    "1st": 0,
    "second": 1,
    "2nd": 1,
    "third": 2,
    "3rd": 2,
    "fourth": 3,
    "4th": 3,
    "last": -1,
    "final": -1,
}
SUBJECT = re.compile(
    r"^(?:the\s+)?([\w' -]{2,30}?)\s+(?:is|are|was|were|needs?|could|should|feels?|sounds?|has|drags?|lasts?)\b", re.I
)
BETWEEN = " \t:;,.-–"


@dataclass(frozen=True, slots=True)
class ReadRemark:
    """A remark as it was read: where (0 for all of it), the place as it was written, and what is odd about it."""

    said: str
    who: str = ""
    section_id: int = 0
    bar: int = 0
    heard_at: str = ""
    odd: str = ""


def read_remarks(text: str, song: Song, who: str = "") -> list[ReadRemark]:
    """The remarks of a list; a line that only names a listener is the heading of those under it."""
    found: list[ReadRemark] = []
    line = timeline(song)
    for raw in text.splitlines():
        words = clean_line(BULLET.sub("", raw), MAX_REMARK * 2)
        if not words:
            continue
        header = _heading(words, song)
        if header:
            who = header
        elif raw[:1].isspace() and found and not BULLET.match(raw) and not _place(words, song, line)[1]:
            last = found[-1]
            found[-1] = ReadRemark(
                f"{last.said} {words}"[:MAX_REMARK], last.who, last.section_id, last.bar, last.heard_at, last.odd
            )
        else:
            found.append(_remark(words, song, line, who))
    return [f for f in found if f.said]


def _heading(words: str, song: Song) -> str:
    """The listener of the lines that follow, where a line says nothing else."""
    match = HEADER.match(words) or (LISTENER.match(words) if words.endswith(":") else None)
    return clean_line(match[1], MAX_NAME) if match and _section(match[1], song) is None else ""


def _remark(words: str, song: Song, line: Timeline, who: str) -> ReadRemark:
    place, rest = _place(words, song, line)
    if not rest:  # no place first: perhaps a listener
        match = LISTENER.match(words)
        if match and match[2] and len(match[1].split()) <= 3:
            who, words = match[1], match[2]
            place, rest = _place(words, song, line)
    said = (rest or words).strip(BETWEEN)[:MAX_REMARK]
    return ReadRemark(said, clean_line(who, MAX_NAME), place.section_id, place.bar, place.heard_at, place.odd)


def _place(words: str, song: Song, line: Timeline) -> tuple[ReadRemark, str]:
    """The place that a line begins with, and what follows; what follows is empty where it begins with none."""
    if match := CLOCK.match(words):
        return _at_clock(match[1], line), words[match.end() :].strip(BETWEEN)
    if match := BARS.match(words):
        return _at_bar(int(match[1]), match[0].strip(), line), words[match.end() :].strip(BETWEEN)
    match = SUBJECT.match(words)
    subject = _section(match[1], song) if match else None
    if subject is not None:  # the section itself is spoken of: the line says more than its place
        return ReadRemark("", section_id=subject.id, heard_at=subject.name[:40]), words
    for count in range(min(5, len(words.split())), 0, -1):
        head = " ".join(words.split()[:count])
        section = _section(head.strip(BETWEEN), song)
        rest = words[len(head) :].strip(BETWEEN)
        if (
            section is not None
            and rest
            and (head[-1] in BETWEEN or words[len(head) :].lstrip()[:1] in ":,-–" or count > 1 or head[0].isupper())
        ):
            return ReadRemark("", section_id=section.id, heard_at=head.strip(BETWEEN)[:40]), rest
    return ReadRemark(""), ""


def _at_clock(clock: str, line: Timeline) -> ReadRemark:
    seconds = 0.0
    for part in clock.replace(",", ".").split(":"):
        seconds = 60.0 * seconds + float(part)
    if seconds > line.seconds:
        return ReadRemark(
            "",
            heard_at=clock,
            odd=f"{clock} lies after the song's end ({_clock(line.seconds)}); it is kept for the whole song",
        )
    starts = [span.start_seconds for span in line.spans]
    span = line.spans[max(0, bisect_right(starts, seconds + 1e-6) - 1)]
    bar = bisect_right(span.grid.bar_seconds[:-1], seconds - span.start_seconds + 1e-6)
    return ReadRemark("", section_id=span.section.id, bar=max(1, bar), heard_at=clock)


def _at_bar(bar: int, said: str, line: Timeline) -> ReadRemark:
    for span in line.spans:
        if span.first_bar <= bar <= span.last_bar:
            return ReadRemark("", section_id=span.section.id, bar=bar - span.first_bar + 1, heard_at=said)
    last = line.spans[-1].last_bar if line.spans else 0
    return ReadRemark(
        "", heard_at=said, odd=f"bar {bar} is not in the song, which has {last}; it is kept for the whole song"
    )


def _section(words: str, song: Song) -> Section | None:
    """The section that is meant by its name, or by its role and which one of them."""
    plain = re.sub(r"^(?:in|at|on)?\s*(?:the\s+)?", "", words.casefold()).strip()
    for section in song.sections:
        if section.name.casefold() == plain:
            return section
    nth, _, kind = plain.partition(" ")
    wanted, number = (kind, NTH[nth]) if nth in NTH else (plain, 0)
    match = re.fullmatch(r"(.+?)\s+(\d{1,2})", wanted)
    if match:
        wanted, number = match[1], int(match[2]) - 1
    role = guess_role(wanted) if wanted and len(wanted.split()) == 1 else "none"
    same = [s for s in song.sections if role != "none" and s.role == role]
    return same[number] if same and -len(same) <= number < len(same) else None


def _clock(seconds: float) -> str:
    return f"{int(seconds) // 60}:{int(seconds) % 60:02d}"

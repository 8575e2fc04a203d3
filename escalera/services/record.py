"""The record of a song as a text that a person reads: what was wanted, decided and why, what was used, what is open."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import date

from escalera.core.checks import CHECKS, judged
from escalera.core.document.song import Layer, Section, Song
from escalera.core.handing.handed_tables import people_rows
from escalera.core.palette.effects import RETURNS
from escalera.core.planning.open_steps import Surroundings, open_steps
from escalera.core.reading.brief import WISHES, read_brief
from escalera.core.reading.rights import open_points, used_samples
from escalera.core.reading.timeline import timeline
from escalera.services.feedback_lists import where
from escalera.store.repository import Entry
from escalera.store.version_store import Named

OFF_DB = -59.0
MOST_NEXT = 8


def record(
    song: Song, entries: Sequence[Entry], kept: Sequence[Named], today: date, learned: Sequence[str] = ()
) -> str:
    """Markdown. Parts in which nothing is written are left out; `learned` is what was noted of tracks that it was built on."""
    parts = (
        ("Brief", _brief(song, today)),
        ("Learned from other tracks", learned),
        ("What every layer is there for", _layers(song)),
        ("Tried and set aside", (f"{x.name}: {x.aside}" for x in song.layers if x.aside)),
        ("Sections with a reason of their own", _lengths(song)),
        ("Options", _options(song)),
        ("Feedback", _feedback(song)),
        ("Stages and dates", _work(song)),
        ("People", people_rows(song)),
        ("Accepted", (f"{f.said} Because: {reason}" for f, reason in judged(song).accepted)),
        ("Open", (f"{CHECKS[f.check].title}: {f.said}" for f in judged(song).open)),
        ("Next", (f"{step.said}: {step.why}" for step in open_steps(song, Surroundings(today, today))[:MOST_NEXT])),
        ("Versions", (f"{v.name}{f': {v.reason}' if v.reason else ''}" for v in kept)),
        ("What was used", used(song)),
        (
            "Every step",
            (
                f"{e.created_at:%Y-%m-%d %H:%M} {e.summary}{' (undone)' if e.state == 'undone' else ''}"
                for e in reversed(entries)
            ),
        ),
    )
    lines = [
        f"# {song.title}",
        "",
        f"{song.tempo_bpm:g} bpm, {song.metre}, {song.key}, {song.bars} bars. Written down on {today}.",
        "",
    ]
    for title, rows in parts:
        lines += _part(title, rows)
    return "\n".join(lines)


def _part(title: str, rows: Iterable[str]) -> list[str]:
    told = [f"- {row}" for row in rows]
    return [f"## {title}", "", *told, ""] if told else []


def _brief(song: Song, today: date) -> Iterator[str]:
    for wish, text in song.brief:
        yield f"{WISHES[wish].label}: {text}"
    yield from (f"Not met: {line.said}" for line in read_brief(song, today) if line.met is False)


def _layers(song: Song) -> Iterator[str]:
    for x in song.layers:
        notes = [
            x.reason,
            f"How it was made: {x.recipe}" if x.recipe else "",
            f"Sent by {x.sent_by}; it stays as it is." if x.sent_by else "",
        ]
        told = " ".join(" ".join(note.split()) for note in notes if note)
        if told and not x.aside:
            yield f"{x.name}: {told}"


def _work(song: Song) -> Iterator[str]:
    for mark in song.work.marks:
        yield f"{mark.stage} since {mark.on}{f': {mark.reason}' if mark.reason else ''}"
    for due in song.work.due:
        yield f"{due.what}: due on {due.on}{', done' if due.done else ''}"


def _feedback(song: Song) -> Iterator[str]:
    line = timeline(song)
    for r in song.feedback:
        told = "" if r.state == "open" else f" ({r.state}{f': {r.reason}' if r.reason else ''})"
        yield f"{r.who or 'Somebody'}, {where(song, line, r)}: {r.said}{told}"


def _lengths(song: Song) -> Iterator[str]:
    for s in song.sections:
        if s.length_reason:
            yield f"{s.name}, {s.bars} bars: {s.length_reason}"


def _options(song: Song) -> Iterator[str]:
    for section in song.sections:
        for parked in section.parked:
            yield f"{section.name}: {_option(section, parked.name, parked.who, parked.reason)}"


def _option(section: Section, name: str, who: str, reason: str) -> str:
    by = f" (by {who})" if who else ""
    return f"{name}{by}, {reason or 'not decided'}"


def used(song: Song) -> Iterator[str]:
    """Sounds by layer with their effects and spaces, and the effects of buses and mix; what is set aside is left out."""
    for x in song.layers:
        if not x.aside:
            yield f"{x.name}: {', '.join(_of_layer(x))}"
    for bus in song.buses:
        if bus.devices:
            yield f"Bus of {bus.family}: {', '.join(d.kind.label for d in bus.devices)}"
    for u in used_samples(song):
        said = ", ".join(x for x in (u.sample.source, u.licence.label, u.sample.credit) if x)
        yield f"Sample {u.sample.name}, in {', '.join(u.layers)}: {said}"
    for point in open_points(song):
        yield f"Not cleared: {point}"
    if song.master:
        yield f"The mix: {', '.join(d.kind.label for d in song.master)}"


def _of_layer(layer: Layer) -> Iterator[str]:
    yield layer.sound.label
    yield from (f"stacked {part.sound_key.replace('-', ' ')}" for part in layer.stack)
    yield from (d.kind.label.lower() for d in layer.devices)
    yield from (f"into the {r.label.lower()}" for r in RETURNS if layer.send_db(r.key) > OFF_DB)
    if layer.prints:
        yield "printed"
    if layer.source:
        yield f"from {layer.source}"

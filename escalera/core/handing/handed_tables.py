"""Tables that go along: sections as markers, everything that moves, words with their bars, credits."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.document.lanes import lane_label, lane_parameter, layer_parameter
from escalera.core.document.song import Song
from escalera.core.reading.rights import open_points, used_samples
from escalera.core.reading.section_harmony import section_key
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.keys import key_text
from escalera.core.time.ticks import clock_ms
from escalera.core.voices.word_places import lines_of, words_laid

Row = tuple[str | float, ...]
MARKERS = ("section", "role", "first bar", "bars", "start", "seconds", "tempo bpm", "metre", "key", "energy wanted")
AUTOMATION = ("section", "parameter", "bar.beat", "seconds", "value", "unit", "to the next point")


def marker_rows(song: Song) -> Iterator[Row]:
    """The table of sections, its head first."""
    yield MARKERS
    for span in timeline(song).spans:
        s = span.section
        yield (
            s.name, s.role, str(span.first_bar), str(s.bars), clock_ms(span.start_seconds), f"{span.start_seconds:.6f}", f"{span.tempo_points[0][1]:g}",
            str(span.bar_metres[0]), key_text(section_key(song, s)), f"{s.target.mean:.1f}",
        )  # fmt: skip


def automation_rows(song: Song) -> Iterator[Row]:
    """Every point of every curve and every setting that a section has of its own, the head first."""
    yield AUTOMATION
    for span in timeline(song).spans:
        for t in span.section.treatments:
            layer = song.layer_by_id.get(t.layer_id)
            if layer is not None:
                parameter = layer_parameter(layer, t.lane)
                label = f"{layer.name}: {parameter.label.lower()}"
                yield (span.section.name, label, *_where(span, 0), t.value, parameter.unit, "held")
        for curve in span.section.curves:
            parameter = lane_parameter(song, curve.lane)
            label = lane_label(song, curve.lane)
            for tick, value, shape in curve.points:
                yield (span.section.name, label, *_where(span, tick), value, parameter.unit, shape)


def _where(span: Span, tick: int) -> tuple[str, float]:
    return _place(span, tick), round(span.start_seconds + span.seconds_at(min(tick, span.length_ticks)), 6)


def _place(span: Span, tick: int) -> str:
    """'12.3' or '12.3.250': bar, beat, and thousandths of a beat."""
    tick = max(0, min(tick, span.length_ticks - 1))
    bar = span.bar_of(tick)
    beat_ticks = span.bar_metres[bar].beat_ticks
    beat, rest = divmod(tick - span.bar_ticks[bar], beat_ticks)
    return f"{span.first_bar + bar}.{beat + 1}" + (f".{round(1000 * rest / beat_ticks):03d}" if rest else "")


def words_text(song: Song) -> str:
    """The words, section by section, with the bar where each line begins."""
    parts = [song.title, ""]
    for span in timeline(song).spans:
        lines = lines_of(song, span.section)
        if lines:
            places = {p.line: p.start for p in reversed(words_laid(song, span).places)}
            parts.append(f"{span.section.name} (bars {span.first_bar}–{span.last_bar})")
            parts += [
                f"  {_place(span, places[i]) if i in places else '–':>8}  {line.text}" for i, line in enumerate(lines)
            ]
            parts.append("")
    return "\n".join(parts) if len(parts) > 2 else f"{song.title}\n\nNo words are written in this song.\n"


def people_rows(song: Song) -> list[str]:
    """Everybody on the list: roles, what was sent and is owed, the share and by what it was signed off."""
    rows = []
    for p in song.people:
        share = f"{p.share:g} % of the writing" if p.share else ""
        signed = f"signed off {p.signed_on or ''}: {p.signed}".replace("  ", " ") if p.signed else ""
        told = [
            p.roles,
            f"sent {' '.join(p.sent.split())}" if p.sent else "",
            f"is owed {' '.join(p.owed.split())}" if p.owed else "",
            share,
            signed or ("not signed off" if p.share else ""),
        ]
        rows.append(f"{p.name}: {'; '.join(filter(None, told)) or 'nothing noted'}")
    return rows


def credits_text(song: Song) -> str:
    """Who made and sent what, what has to be credited, what is not cleared."""
    parts = [song.title, ""]
    sent = {x.sent_by for x in song.layers if x.sent_by} | {t.sent_by for t in song.takes if t.sent_by}
    sung = {t.singer for t in song.takes if t.singer}
    parts += [f"Played or sent by: {', '.join(sorted(sent))}"] if sent else []
    parts += [f"Sung by: {', '.join(sorted(sung))}"] if sung else []
    people = people_rows(song)
    parts += ["", "People:", *(f"  {row}" for row in people)] if people else []
    used = used_samples(song)
    if used:
        parts += ["", "Recordings:"]
        for u in used:
            credit = f"; credit: {u.sample.credit}" if u.sample.credit else ""
            parts.append(f"  {u.sample.name} ({u.sample.source or 'no source noted'}): {u.licence.label}{credit}")
    open_ = open_points(song)
    parts += [
        "",
        "Not settled yet:" if open_ else "Everything that is used is cleared, as far as it was noted here.",
    ] + [f"  {p}" for p in open_]
    return "\n".join([*parts, "", "This is a list, no legal advice.", ""])

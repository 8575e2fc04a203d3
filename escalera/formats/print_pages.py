"""Pages made for print, by themselves: a chord chart, and a lead sheet as bars with chords, notes' names and words. Printed by a browser."""

from __future__ import annotations

from collections.abc import Iterator
from html import escape

from escalera.core.handing.sheets import Sheet, SheetBar
from escalera.core.theory.keys import Key, key_text

BARS_A_ROW = 4
STYLE = """
@page { margin: 16mm; }
body { font: 12pt/1.35 Georgia, serif; color: #111; max-width: 190mm; margin: 0 auto; }
h1 { font-size: 22pt; margin: 0 0 2mm; } h2 { font-size: 13pt; margin: 6mm 0 1mm; break-after: avoid; }
p { margin: 0 0 3mm; } .row { display: grid; grid-template-columns: repeat(4, 1fr); break-inside: avoid; }
.bar { border-left: 1.2pt solid #111; border-bottom: 0.6pt solid #bbb; padding: 1mm 2mm; min-height: 13mm; }
.bar:last-child { border-right: 1.2pt solid #111; } .chords { font-weight: bold; font-size: 13pt; } .notes { font-size: 9pt; color: #444; }
.words { font-size: 11pt; } .number { float: right; font-size: 8pt; color: #777; } .repeat { border-left-width: 3pt; } .again { border-right: 3pt solid #111; }
"""


def chord_chart(sheet: Sheet) -> str:
    """Sections with their chords, four bars a row, as a page of HTML."""
    return _page(sheet, _rows(sheet, lambda bar: _chords(bar)), "Chords")


def lead_page(sheet: Sheet) -> str:
    """Chords, the melody's notes by name, and words, bar by bar, as a page of HTML."""

    def body(bar: SheetBar) -> str:
        names = " ".join(_pitch(bar.key, n.pitches[0]) for n in bar.notes if n.pitches and not n.tied_from)
        words = "".join(
            escape(n.syllable) + ("-" if n.syllabic in ("begin", "middle") else " ") for n in bar.notes if n.syllable
        )
        return f'{_chords(bar)}<div class="notes">{escape(names)}</div><div class="words">{words.strip()}</div>'

    return _page(sheet, _rows(sheet, body), "Lead sheet")


def _pitch(key: Key, pitch: int) -> str:
    return key.pitch_name(pitch)


def _chords(bar: SheetBar) -> str:
    beat = bar.metre.beat_ticks
    told = [(str(c) if t < beat else f"{str(c)} (beat {t // beat + 1})") for t, c in bar.chords]
    return f'<div class="chords">{escape("  ".join(told)) or "%"}</div>'


def _rows(sheet: Sheet, body) -> Iterator[str]:  # type: ignore[no-untyped-def]
    bars = sheet.parts[0].bars if sheet.parts else ()
    row: list[str] = []
    for bar in bars:
        if bar.section or len(row) == BARS_A_ROW:
            if row:
                yield f'<div class="row">{"".join(row)}</div>'
            row = []
        if bar.section:
            yield f"<h2>{escape(bar.section)}</h2>"
        kind = " repeat" * bar.repeat_from + " again" * bar.repeat_to
        again = " ×2" if bar.repeat_to else ""
        row.append(f'<div class="bar{kind}"><span class="number">{bar.number}{again}</span>{body(bar)}</div>')
    if row:
        yield f'<div class="row">{"".join(row)}</div>'


def _page(sheet: Sheet, rows: Iterator[str], what: str) -> str:
    bars = sheet.parts[0].bars if sheet.parts else ()
    told = f"{key_text(bars[0].key)}, {bars[0].metre}, {bars[0].tempo_bpm:g} bpm" if bars else "no bars"
    title = escape(sheet.title or "Untitled")
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{title}: {what}</title><style>{STYLE}</style></head><body>'
        f"<h1>{title}</h1><p>{what}; {escape(told)}. “%” is the chord before.</p>{''.join(rows)}</body></html>\n"
    )

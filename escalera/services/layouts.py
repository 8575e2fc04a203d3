"""Layouts of a song as they are asked for: after its own targets, or in another form; and as a report."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from escalera.core.commands.layout_commands import MOST_OFF, Arrange, LayOut
from escalera.core.document.forms import FORMS
from escalera.core.document.song import Song
from escalera.core.edits.edit import one_of
from escalera.core.energy.model import arranged
from escalera.core.layout import Layout, lay_out_song
from escalera.core.layout.plans import STANCES
from escalera.services.rendering import MeasuredSong


def laid_out(song: Song, form: str = "", count: int = 3) -> list[Layout]:
    """Up to three layouts of the song, in its own form or another; the song stays as it is. Raises EditError."""
    text = _form_text(form)
    if not text:
        return [Arrange(key).layout(song) for key in list(STANCES)[:count]]
    empty = LayOut(text, fill="empty").apply(song)
    made = [s.id for s in empty.sections if s.id not in song.section_by_id]
    source = max(song.sections, key=lambda s: len(s.placements))
    return [
        lay_out_song(empty, key, made, fit_scale=len(made) == len(empty.sections), loop=source)
        for key in list(STANCES)[:count]
    ]


def _form_text(form: str) -> str:
    if not form or re.search(r"\d", form):
        return form
    return FORMS[one_of(form, list(FORMS), "form")].text


def measured_off(song: Song, measured: MeasuredSong) -> dict[str, float]:
    """By section id, how much more energy was measured than arranged: what a layout makes up for."""
    pairs = zip(arranged(song).sections, measured.sections)
    found = {str(s.span.section.id): round(float(np.clip(m.value - s.value, -MOST_OFF, MOST_OFF)), 2) for s, m in pairs}
    return {key: off for key, off in found.items() if abs(off) >= 0.05}


def fields_of(layout: Layout, form: str) -> dict[str, str]:
    """The command that makes a layout."""
    text = _form_text(form)
    if text:
        return {"kind": "lay_out", "text": text, "stance": layout.stance.key}
    return {"kind": "arrange", "stance": layout.stance.key}


def layouts_report(found: list[Layout]) -> list[dict[str, Any]]:
    """What every layout comes to, ready for JSON; reasons by section and layer, both by name."""
    rows = []
    for layout in found:
        names = {s.id: s.name for s in layout.song.sections}
        layers = {x.id: x.name for x in layout.song.layers}
        rows.append(
            {
                "name": layout.stance.label,
                "sections": [
                    {"name": section.name, "target": round(wanted, 2), "arranged": round(value, 2)}
                    for section, wanted, value in layout.rows
                ],
                "joins_as_meant": layout.agreement.joins_as_meant,
                "joins": layout.agreement.joins,
                "out_of_reach": layout.out_of_reach,
                "reasons": {
                    names[section]: {layers[layer]: why for layer, why in said.items()}
                    for section, said in layout.reasons.items()
                },
            }
        )
    return rows

"""Findings, advice and moves as plain data: the stable JSON of the command line."""

from __future__ import annotations

from typing import Any

from escalera.core.checks.check import CHECKS, Finding, grouped, judged
from escalera.core.document.song import Section, Song
from escalera.core.energy.model import section_energy
from escalera.core.moves.move import Move, apply_move, moves_for
from escalera.core.moves.suggestions import suggest
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError, shown


def findings_report(song: Song) -> dict[str, Any]:
    """One entry for all findings of one cause: the weightiest speaks for them."""
    found = judged(song)
    rows = [_entry(song, list(group), "") for group in grouped(found.open)]
    reasons = dict.fromkeys(reason for _, reason in found.accepted)
    for reason in reasons:
        mine = tuple(f for f, r in found.accepted if r == reason)
        rows += [_entry(song, list(group), reason) for group in grouped(mine)]
    return {"findings": sorted(rows, key=lambda row: (bool(row["accepted"]), -row["weight"]))}


def _entry(song: Song, members: list[Finding], reason: str) -> dict[str, Any]:
    first = max(members, key=lambda f: f.weight)
    layers = dict.fromkeys(f.layer_id for f in members if f.layer_id in song.layer_by_id)
    sections = dict.fromkeys(i for f in members for i in f.place if i in song.section_by_id)
    return {
        "check": first.check,
        "title": CHECKS[first.check].title,
        "said": first.said,
        "sections": [song.section_by_id[i].name for i in sections],
        "layers": [song.layer_by_id[i].name for i in layers],
        "members": len(members),
        "weight": round(first.weight, 2),
        "accepted": reason,
    }


def _value(song: Song, section: Section) -> float:
    return section_energy(song, timeline(song).span_of(section.id)).value


def helps_report(song: Song, section: Section) -> dict[str, Any]:
    """What would bring a section nearer to its target; points of its energy."""
    now = _value(song, section)
    found = suggest(song, section.id)
    return {"helps": [{"name": s.label, "change": round(s.points, 2), "then": round(now + s.points, 2)} for s in found]}


def moves_report(song: Song, section: Section) -> list[dict[str, Any]]:
    """All moves that apply to a section, with what each does to its energy."""
    now = _value(song, section)
    rows = []
    for move in moves_for(song, section):
        after = apply_move(song, move)
        there = after.section_by_id.get(section.id)
        change = _value(after, there) - now if there else 0.0
        rows.append({"move": move.key, "name": move.label, "change": round(change, 2)})
    return rows


def named_move(song: Song, section: Section, wanted: str) -> str:
    """The key of a move, from its key, its kind where only one is of it, or its name. Raises InputError."""
    found: list[Move] = list(moves_for(song, section))
    for key in wanted.split("|"):
        if all(m.key != key for m in found):
            break
    else:
        return wanted
    alike = [m for m in found if m.key.partition(":")[0] == wanted or m.label.casefold() == wanted.casefold()]
    if len(alike) == 1:
        return alike[0].key
    if alike:
        raise InputError(
            f"Several moves are “{shown(wanted)}”: {', '.join(m.key for m in alike[:8])}. Name one of them."
        )
    raise InputError(f"{section.name} has no move “{shown(wanted)}”. `escalera moves` without --do lists them.")

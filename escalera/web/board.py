"""The board: every song on the shelf of the stage it has reached, with the dust of the weeks it stands there."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import date

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from escalera.cleaning import clean_line
from escalera.core.document.days import days_said
from escalera.core.document.work_state import STAGES
from escalera.core.planning.open_steps import lacking
from escalera.core.theory.keys import parse_key
from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass
from escalera.services.song_index import IndexedSong
from escalera.web.drawing import facts_stair
from escalera.web.planning_links import step_url
from escalera.web.song_view import studio

blueprint = Blueprint("board", __name__, url_prefix="/board")
MAX_WORDS = 120
GRAINS_A_WEEK, MOST_GRAINS = 3, 60
SORTS: dict[str, tuple[str, Callable[[IndexedSong], object]]] = {
    "dust": ("longest there first", lambda s: s.now.since),
    "touched": ("last worked on first", lambda s: -s.touched.toordinal()),
    "due": ("due first", lambda s: min((d.on for d in s.facts.work.due if not d.done), default=date.max)),
    "lacks": ("lacks least first", lambda s: len(lacking(list(s.facts.open), s.now.next))),
    "energy": ("strongest first", lambda s: -s.facts.peak),
    "tempo": ("slowest first", lambda s: s.facts.tempo_bpm),
    "title": ("by title", lambda s: s.title.casefold()),
}


@dataclass(frozen=True, slots=True)
class Stood:
    """A song as it stands on its shelf: its stair, grains of dust as x and y in per cent, what it lacks, when it is due."""

    song: IndexedSong
    steps: list[tuple[float, float, float, float]]
    dust: list[tuple[float, float]]
    days: int
    lacks: int
    due_in: int | None


def _stood(song: IndexedSong, today: date) -> Stood:
    days = song.now.days(today) if not song.now.done else 0
    due = min((d.on for d in song.facts.work.due if not d.done), default=None)
    lacks = len(lacking(list(song.facts.open), song.now.next))
    return Stood(
        song,
        facts_stair(song.facts),
        _dust(song.song_id, days),
        days,
        lacks,
        None if due is None else (due - today).days,
    )


def _dust(song_id: int, days: int) -> list[tuple[float, float]]:
    """Grains on top of a stair, more with the weeks, always at the same places for a song."""
    chance = random.Random(song_id)
    count = min(MOST_GRAINS, GRAINS_A_WEEK * (days // 7))
    return [(round(chance.uniform(1, 99), 1), round(chance.triangular(0, 1, 0.1), 2)) for _ in range(count)]


def _matches(song: IndexedSong, words: list[str]) -> bool:
    f = song.facts
    told = [
        song.title,
        f.key,
        str(parse_key(f.key)),
        f"{f.tempo_bpm:g}",
        f.metre,
        *f.sounds,
        *(p.name for p in f.people),
    ]
    spoken = " ".join(told).casefold()
    return all(word in spoken for word in words)


def _context() -> dict[str, object]:
    values, today = request.values, date.today()
    words = clean_line(values.get("words", ""), MAX_WORDS)
    sort = values.get("sort", "") if values.get("sort", "") in SORTS else "dust"
    archived = bool(values.get("archived"))
    index = studio().index.all()
    songs = [s for s in index.songs if s.facts.work.archived == archived and _matches(s, words.casefold().split())]
    songs.sort(key=SORTS[sort][1])  # type: ignore[arg-type]
    shelves = {stage: [_stood(s, today) for s in songs if s.now.stage == stage] for stage in STAGES}
    return {
        "shelves": shelves, "words": words, "sort": sort, "sorts": {k: said for k, (said, _) in SORTS.items()}, "archived": archived,
        "count": len(songs), "total": len(index.songs), "in_archive": sum(s.facts.work.archived for s in index.songs),
        "waiting": index.waiting, "days_said": days_said, "usual": studio().planning.usual(index),
    }  # fmt: skip


@blueprint.get("")
def page() -> ResponseReturnValue:
    if request.headers.get("HX-Request"):
        return render_template("board/_shelves.html", **_context())
    return render_template("board/page.html", **_context(), stages=STAGES)


@blueprint.get("/<int:song_id>")
def song(song_id: int) -> ResponseReturnValue:
    """What a song lacks, and what comes next."""
    return _song(song_id)


def _song(song_id: int, status: int = 200, **more: object) -> ResponseReturnValue:
    head = studio().head(song_id)
    found = studio().index.one(song_id)
    plan = studio().planning.plan(song_id, date.today()) if found is not None else None
    return render_template(
        "board/_song.html",
        head=head,
        song=head.song,
        found=found,
        plan=plan,
        stages=STAGES,
        today=date.today(),
        days_said=days_said,
        step_url=step_url,
        **more,
    ), status


@blueprint.post("/<int:song_id>")
def change(song_id: int) -> ResponseReturnValue:
    """Set the stage, or archive: the song as it is then, and the shelves anew."""
    head = studio().head(song_id)
    kind = request.form.get("kind", "")
    try:
        if kind not in ("set_stage", "take_back_stage", "set_archived"):
            return _song(song_id, 422, trouble="That cannot be done on the board. Open the song's plan.")
        outcome = studio().command(song_id, head.revision_id, {"on": str(date.today()), **request.form.to_dict()})
    except EscaleraError as error:
        return _song(song_id, error.status, trouble=str(error))
    return _song(song_id, said=outcome.summary, changed=True)

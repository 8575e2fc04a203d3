"""Sets of songs: one stair over all of them, the joins between, what tires or jars, other orders."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC

from flask import Blueprint, Response, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from escalera.core.edits.edit import whole_number
from escalera.core.handing.file_names import plain_name
from escalera.core.sets import song_set as acts
from escalera.core.sets.set_checks import SET_CHECKS
from escalera.core.sets.set_order import SET_SHAPES
from escalera.core.sets.set_reading import Placed, ReadSet
from escalera.core.sets.song_set import ENTRY_STATES, KINDS, Done, SongSet
from escalera.core.theory.keys import parse_key
from escalera.errors import EditError, EscaleraError, InputError, NotFound, shown
from escalera.lazy_dataclasses import dataclass
from escalera.services.set_hearing import heard_join
from escalera.services.song_sets import ToldSet
from escalera.web.song_view import studio

blueprint = Blueprint("sets", __name__, url_prefix="/sets")
HEIGHT, TOP = 150.0, 10.4  # pixels of the stair, energy at its top


@dataclass(frozen=True, slots=True)
class DrawnSong:
    """A song on the stair of a set: x and width in per cent, its treads as (x, width, y), and where its tempo lies."""

    place: int
    title: str
    x: float
    width: float
    treads: list[tuple[float, float, float]]
    tempo_y: float
    tempo_bpm: float
    key: str
    mean: float


def drawn_set(read: ReadSet) -> list[DrawnSong]:
    """One stair of the whole set: time across, energy on the common scale upward."""
    total = max(1.0, read.seconds)
    tempi = [p.facts.tempo_bpm for p in read.songs]
    low, reach = min(tempi, default=0.0), max(1.0, max(tempi, default=0.0) - min(tempi, default=0.0))
    return [_drawn(i, p, total, low, reach) for i, p in enumerate(read.songs, 1)]


def _drawn(number: int, placed: Placed, total: float, low: float, reach: float) -> DrawnSong:
    at, treads = placed.begins_s, []
    for step in placed.facts.steps:
        treads.append((round(100 * at / total, 3), round(100 * step.seconds / total, 3), round(_y(step.common), 1)))
        at += step.seconds
    f = placed.facts
    tempo_y = round(34 - 26 * (f.tempo_bpm - low) / reach, 1)
    x, width = round(100 * placed.begins_s / total, 3), round(100 * f.seconds / total, 3)
    return DrawnSong(number, f.title, x, width, treads, tempo_y, f.tempo_bpm, str(parse_key(f.key)), round(f.mean, 1))


def _y(energy: float) -> float:
    return HEIGHT - 8 - (HEIGHT - 20) * min(energy, TOP) / TOP


@blueprint.get("")
def page() -> ResponseReturnValue:
    return render_template("sets/list.html", **_list())


def _list(**more: object) -> dict[str, object]:
    told = studio().sets.all()
    return {
        "sets": [(t, drawn_set(t.read)) for t in told], "kinds": list(KINDS), "away": studio().sets.all(deleted=True), "height": HEIGHT, **more,
    }  # fmt: skip


@blueprint.post("")
def make() -> ResponseReturnValue:
    try:
        set_id = studio().sets.make(request.form.get("name", ""), request.form.get("kind", ""))
    except EscaleraError as error:
        return render_template("sets/list.html", **_list(trouble=str(error), given=request.form)), error.status
    return redirect(url_for("sets.one", set_id=set_id))


@blueprint.post("/read")
def read_in() -> ResponseReturnValue:
    """A set from a file that was written out."""
    file = request.files.get("file")
    try:
        if file is None or not file.filename:
            raise InputError("Choose a file first.")
        set_id = studio().sets.read_in(file.read())
    except EscaleraError as error:
        return render_template("sets/list.html", **_list(trouble=str(error))), error.status
    return redirect(url_for("sets.one", set_id=set_id))


@blueprint.post("/<int:set_id>/away")
def put_away(set_id: int) -> ResponseReturnValue:
    studio().sets.set_deleted(set_id, True)
    return redirect(url_for("sets.page"))


@blueprint.post("/<int:set_id>/back")
def take_back(set_id: int) -> ResponseReturnValue:
    studio().sets.set_deleted(set_id, False)
    return redirect(url_for("sets.one", set_id=set_id))


@blueprint.get("/<int:set_id>")
def one(set_id: int) -> ResponseReturnValue:
    return render_template("sets/page.html", **_context(set_id))


def _context(set_id: int, **more: object) -> dict[str, object]:
    told = studio().sets.get(set_id)
    there = {e.song_id for e in told.document.entries}
    index = studio().index.all()
    return {
        "told": told, "set": told.document, "read": told.read, "drawn": drawn_set(told.read), "kinds": list(KINDS), "height": HEIGHT,
        "rest": [row for row in index.offered if row[0] not in there], "states": ENTRY_STATES, "checks": SET_CHECKS, "shapes": SET_SHAPES,
        "again": [row for row in index.offered if row[0] in there], "titles": index.titles, "by_entry": {p.entry.id: p for p in told.read.songs},
        "places": {e.id: i for i, e in enumerate(told.document.entries, 1)}, "parse_key": parse_key, **more,
    }  # fmt: skip


def _done(set_id: int, act: Callable[[], str]) -> ResponseReturnValue:
    """Do something with the set, and show it as it is then, with what was done or why not."""
    try:
        said = act()
    except EscaleraError as error:
        return render_template("sets/_set.html", **_context(set_id, trouble=str(error))), error.status
    return render_template("sets/_set.html", **_context(set_id, said=said))


@blueprint.post("/<int:set_id>")
def change(set_id: int) -> ResponseReturnValue:
    """One act on the set, by its name."""
    form = request.form.to_dict()
    return _done(set_id, lambda: studio().sets.change(set_id, _act(form, studio().sets.get(set_id))))


Fields = dict[str, str]


def _act(form: Fields, told: ToldSet) -> Callable[[SongSet], Done]:
    act = ACTS.get(form.get("act", ""))
    if act is None:
        raise EditError(f"“{shown(form.get('act', ''))}” is nothing that can be done with a set. Load the page again.")
    return act(form, told)


def _number(form: Fields, name: str, what: str) -> int:
    return whole_number(form.get(name, ""), what, 0)


def _amount(form: Fields, name: str, what: str) -> float:
    text = form.get(name, "").strip().replace(",", ".") or "0"
    try:
        return float(text)
    except ValueError:
        raise EditError(f"“{shown(text)}” is no {what}. Write a number.") from None


def _title(form: Fields) -> str:
    song_id = _number(form, "song", "song")
    found = studio().index.one(song_id)
    if found is None:
        raise NotFound(f"There is no song {song_id} on the shelf.")
    return found.title


def _called(form: Fields, told: ToldSet) -> tuple[int, str]:
    entry_id = _number(form, "entry", "entry")
    return entry_id, studio().sets.title(acts.entry_of(told.document, entry_id))


def _add(form: Fields, told: ToldSet) -> Callable[[SongSet], Done]:
    title, song_id, proposed = _title(form), _number(form, "song", "song"), bool(form.get("proposed"))
    return lambda s: acts.with_song(s, song_id, title, form.get("who", ""), proposed)


def _entry(form: Fields, told: ToldSet) -> Callable[[SongSet], Done]:
    entry_id, title = _called(form, told)
    values: dict[str, object] = {k: form[k] for k in ("who", "state", "note") if k in form}
    if "gap_s" in form:
        values["gap_s"] = _amount(form, "gap_s", "number of seconds")
    return lambda s: acts.with_entry(s, entry_id, title, **values)


def _move(form: Fields, told: ToldSet) -> Callable[[SongSet], Done]:
    entry_id, title = _called(form, told)
    place = whole_number(form.get("place", ""), "place")
    return lambda s: acts.moved(s, entry_id, place, title)


def _take_out(form: Fields, told: ToldSet) -> Callable[[SongSet], Done]:
    entry_id, title = _called(form, told)
    return lambda s: acts.without_song(s, entry_id, title)


def _settings(form: Fields, told: ToldSet) -> Callable[[SongSet], Done]:
    wanted = _amount(form, "wanted_min", "number of minutes")
    return lambda s: acts.with_settings(s, form.get("name", ""), form.get("kind", ""), wanted)


def _take_order(form: Fields, told: ToldSet) -> Callable[[SongSet], Done]:
    ids = [whole_number(i, "entry", 0) for i in form.get("ids", "").split(",")[: acts.MAX_ENTRIES]]
    shape = form.get("shape", "")
    return lambda s: acts.in_order(
        s, ids, f"another order: {SET_SHAPES[shape].key if shape in SET_SHAPES else 'by hand'}"
    )


ACTS: dict[str, Callable[[Fields, ToldSet], Callable[[SongSet], Done]]] = {
    "add": _add,
    "entry": _entry,
    "move": _move,
    "take out": _take_out,
    "settings": _settings,
    "order": _take_order,
    "keep order": lambda form, told: (
        lambda s: acts.with_kept_order(s, form.get("name", ""), form.get("who", ""), form.get("reason", ""))
    ),
    "choose order": lambda form, told: lambda s: acts.with_order(s, form.get("name", "")),
    "forget order": lambda form, told: lambda s: acts.without_order(s, form.get("name", "")),
}


@blueprint.post("/<int:set_id>/<any(undo, redo):way>")
def step(set_id: int, way: str) -> ResponseReturnValue:
    return _done(set_id, lambda: studio().sets.step(set_id, way == "redo"))


@blueprint.get("/<int:set_id>/orders")
def orders(set_id: int) -> ResponseReturnValue:
    """Other orders, one for every shape, to be looked at before one is taken."""
    told = studio().sets.get(set_id)
    fixed = [whole_number(i, "entry", 0) for i in request.args.getlist("fixed")[: acts.MAX_ENTRIES]]
    found = studio().sets.suggestions(set_id, fixed)
    rows = [(s, drawn_set(s.read)) for s in found]
    return render_template(
        "sets/_orders.html", told=told, rows=rows, shapes=SET_SHAPES, height=HEIGHT, now=len(told.findings), fixed=fixed
    )


@blueprint.get("/<int:set_id>/history")
def history(set_id: int) -> ResponseReturnValue:
    """What was done with the set, and by whom as far as it was said."""
    rows = [(at.replace(tzinfo=UTC).astimezone(), said, done) for at, said, done in studio().sets.history(set_id)]
    return render_template("sets/_history.html", rows=rows)


@blueprint.get("/<int:set_id>/joins/<int:place>.wav")
def hear(set_id: int, place: int) -> ResponseReturnValue:
    """The join after the song at a place (from 1), as it will be heard."""
    read = studio().sets.get(set_id).read
    if not 1 <= place <= len(read.joins):
        raise NotFound("There is no such join in the set. Load the page again.")
    found = read.joins[place - 1]
    songs = [studio().head(p.entry.song_id).song for p in (found.before, found.after)]
    wav = heard_join(studio().rendering, songs[0], songs[1], found.before.entry.gap_s)
    return Response(wav, mimetype="audio/wav", headers={"Cache-Control": "no-store"})


@blueprint.get("/<int:set_id>/set.<any(json, csv):form>")
def export(set_id: int, form: str) -> ResponseReturnValue:
    """The set as a file that can be read in again, or its running order as a table."""
    name = plain_name(studio().sets.get(set_id).document.name)
    text = studio().sets.as_json(set_id) if form == "json" else studio().sets.as_csv(set_id)
    headers = {"Content-Disposition": f"attachment; filename={name}.{form}"}
    return Response(text, mimetype={"json": "application/json", "csv": "text/csv"}[form], headers=headers)

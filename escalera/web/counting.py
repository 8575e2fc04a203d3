"""The counting helper, at hand on every page: taps, named feels, questions, note values."""

from __future__ import annotations

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.document.limits import MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.document.song import Song
from escalera.core.reading.song_ruler import ruler_for
from escalera.core.time.feels import FEELS, feels_at
from escalera.core.time.metre import Metre
from escalera.core.time.note_values import STRAIGHT, USES, VALUES, value_ms
from escalera.core.time.questions import QUESTIONS, Asked, ask
from escalera.core.time.tapping import MAX_TAPS, read_taps
from escalera.errors import InputError, NotFound, shown
from escalera.web.song_view import studio

blueprint = Blueprint("counting", __name__, url_prefix="/count")
STEADY_BPM = 120.0


def _song() -> Song | None:
    song_id = request.args.get("song", 0, type=int)
    try:
        return studio().head(song_id).song if song_id else None
    except NotFound:
        return None


def _tempo(song: Song | None) -> float:
    """The tempo asked for, else the song's. Raises InputError."""
    text = request.args.get("tempo", "")
    if not text:
        return song.tempo_bpm if song else STEADY_BPM
    try:
        tempo = float(text)
    except ValueError:
        raise InputError(f"“{shown(text)}” is not a tempo. Write beats a minute, for example 96.") from None
    if not MIN_TEMPO_BPM <= tempo <= MAX_TEMPO_BPM:
        raise InputError(
            f"A tempo of {tempo:g} bpm lies outside {MIN_TEMPO_BPM:g} to {MAX_TEMPO_BPM:g}. Choose one between them."
        )
    return tempo


@blueprint.get("")
def helper() -> ResponseReturnValue:
    song = _song()
    tempo = _tempo(song)
    return render_template(
        "counting/helper.html",
        song=song,
        tempo=tempo,
        feels=FEELS,
        near=feels_at(tempo),
        examples=[e for _, _, e in QUESTIONS],
        **_times(tempo),
    )


@blueprint.get("/times")
def times() -> ResponseReturnValue:
    tempo = _tempo(_song())
    return render_template("counting/_times.html", tempo=tempo, near=feels_at(tempo), **_times(tempo))


def _times(tempo: float) -> dict[str, object]:
    rows = [(name, [value_ms(name + kind, tempo) for kind in ("", " dotted", " triplet")]) for name in STRAIGHT]
    uses = [(use, said, [(v, value_ms(v, tempo)) for v in values]) for use, (said, values) in USES.items()]
    return {"rows": rows, "uses": uses, "values": VALUES}


@blueprint.get("/ask")
def question() -> ResponseReturnValue:
    """The answer to a question, or a plain sentence with examples, in its place."""
    try:
        return _answered()
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))


def _answered() -> str:
    song = _song()
    text = request.args.get("q", "").strip()
    if not text:
        return ""
    lengths = {s.name: float(s.bars) for s in song.sections} if song else {}
    for name in ("these", "those"):
        length = request.args.get(name, "").strip().lower().removesuffix("s").removesuffix("bar").strip()
        if length:
            try:
                lengths[name] = float(length)
            except ValueError:
                raise InputError(
                    f"“{shown(length)}” is not a number of bars. Say how long {name} are, for example 4."
                ) from None
    metre = song.metre if song else Metre()
    return render_template(
        "counting/_answer.html", answer=ask(text, Asked(ruler_for(song, _tempo(song), metre), lengths))
    )


@blueprint.get("/taps")
def taps() -> ResponseReturnValue:
    """The tempo of taps, times in seconds; a plain sentence while there is none."""
    try:
        times_s = [float(t) for t in request.args.get("t", "").split(",")[-MAX_TAPS:] if t]
        found = read_taps(times_s)
    except ValueError:
        return render_template("counting/_sentence.html", message="A tap has no time. Tap again from the start.")
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))
    return render_template("counting/_taps.html", found=found, near=feels_at(found.bpm)[:2], song=_song())

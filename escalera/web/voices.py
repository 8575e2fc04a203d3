"""The page of voices: takes recorded over a section, comped, judged and polished; words on the melody; the stack."""

from __future__ import annotations

from threading import Thread
from typing import Any

from flask import Blueprint, Response, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from escalera.cleaning import clean_line
from escalera.core.edits.curve_edits import Treat
from escalera.core.edits.edit import section_of, whole_number
from escalera.core.edits.take_edits import take_of
from escalera.core.palette.voice_parts import VOICE_PARTS
from escalera.core.voices.melody import guide_of
from escalera.core.words.lyric_lines import NONSENSE
from escalera.core.words.spoken_words import LANGUAGES
from escalera.errors import EditError, EscaleraError, InputError
from escalera.services.studio import Outcome
from escalera.services.take_material import chords_heard, chords_under, grooves_near
from escalera.services.takes import keep_abandoned, keep_take, polish_from, seconds_of
from escalera.services.takes import take_wav as heard_take
from escalera.services.takes_waiting import TakeAbout
from escalera.services.voice_sheets import lyric_sheet, singers_sheet
from escalera.store.repository import Head
from escalera.web.edits import add_edits, answer
from escalera.web.song_view import studio
from escalera.web.voices_view import CUTS, VoicesView

blueprint = Blueprint("voices", __name__, url_prefix="/songs/<int:song_id>/voices")
DULL_HZ = 420.0
LONG_S = 90.0  # a longer take is read by a worker


def view_of(head: Head) -> VoicesView:
    return VoicesView(head, request.values.get("select", ""), request.values.to_dict())


def context(view: VoicesView) -> dict[str, Any]:
    return {
        "view": view, "song": view.song, "head": view.head, "place": "voices", "parts": VOICE_PARTS, "cuts": CUTS, "languages": LANGUAGES,
        "syllables": sorted(NONSENSE),
    }  # fmt: skip


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("voices/page.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/show")
def show(song_id: int) -> ResponseReturnValue:
    return _fragments(studio().head(song_id), None)


def _fragments(head: Head, outcome: Outcome | None) -> str:
    view = view_of(head)
    made = _new_take(outcome)
    if made:
        take = head.song.take_by_id[made]
        fields = {**request.values.to_dict(), "take": str(made), "voice": take.voice}
        view = VoicesView(head, request.values.get("select", ""), fields)
    return render_template("voices/_changed.html", **context(view), summary=outcome.summary if outcome else "")


def _new_take(outcome: Outcome | None) -> int:
    """The take that an edit brought, to be chosen."""
    if outcome is None or outcome.before is None:
        return 0
    new = [t.id for t in outcome.head.song.takes if t.id not in outcome.before.take_by_id]
    return new[-1] if new else 0


# recording -----------------------------------------------------------------------------------------------------------------


@blueprint.post("/takes")
def begin(song_id: int) -> ResponseReturnValue:
    """Announce a take; the answer says under which name its pieces go."""
    try:
        section_of(studio().head(song_id).song, whole_number(request.form.get("section_id"), "section"))
        token = studio().takes.begin(_about(song_id))
    except EscaleraError as error:
        return jsonify(trouble=str(error)), 422 if isinstance(error, InputError) else error.status
    Thread(target=studio().samples.reader.ready, daemon=True).start()
    return jsonify(token=token)


def _about(song_id: int) -> TakeAbout:
    form = request.form

    def seconds(name: str) -> float:
        try:
            value = float(form.get(name) or 0.0)
        except ValueError as error:
            raise InputError(f"“{form.get(name, '')[:40]}” is not a number of seconds.") from error
        if not abs(value) <= 3600:
            raise InputError(f"{value:g} s is too long; a take may be an hour.")
        return value

    def count(name: str, usual: int) -> int:
        return whole_number(form.get(name) or usual, name.replace("_", " "), 0)

    return TakeAbout(
        song_id, count("section_id", 0), form.get("voice", "lead"), count("rate_hz", 44_100), count("channels", 1), seconds("zero_s"),
        count("low_ticks", 0), count("high_ticks", 0), max(0.0, seconds("pass_s")), seconds("low_s"), form.get("open_end") == "yes",
        clean_line(form.get("singer", ""))[:80], clean_line(form.get("made_at", ""))[:32], "always" if form.get("lay") == "always" else "first",
    )  # fmt: skip


@blueprint.post("/takes/<token>/<int:number>")
def piece(song_id: int, token: str, number: int) -> ResponseReturnValue:
    try:
        studio().takes.piece(token, number, request.get_data())
    except EscaleraError as error:
        return jsonify(trouble=str(error)), 422 if isinstance(error, InputError) else error.status
    return jsonify(number=number)


@blueprint.post("/takes/<token>/keep")
def keep(song_id: int, token: str) -> ResponseReturnValue:
    if seconds_of(studio(), token) > LONG_S:
        studio().keep_long_take(song_id, token)
        message = "A long take is read in the background; it is here as soon as it is."
        return render_template("_notice.html", message=message, kind="calm"), 202

    def act() -> Outcome:
        before = studio().head(song_id).song
        kept = keep_take(studio(), token)
        return Outcome(studio().head(song_id), kept.said, before)

    return answer(song_id, act, _fragments)


@blueprint.post("/recover")
def recover(song_id: int) -> ResponseReturnValue:
    """Takes that broke off are kept as far as they came; nothing is said where there are none."""
    kept = keep_abandoned(studio(), song_id)
    if not kept:
        return "", 204
    count = sum(len(k.take_ids) for k in kept)
    head = studio().head(song_id)
    return _fragments(head, Outcome(head, f"{count} {'take' if count == 1 else 'takes'} that broke off kept"))


# hearing -------------------------------------------------------------------------------------------------------------------


@blueprint.get("/takes/<int:take_id>.wav")
def take_wav(song_id: int, take_id: int) -> ResponseReturnValue:
    """A take by itself, as it was sung or as a polish would make it."""
    song = studio().head(song_id).song
    polish = polish_from(request.args) if request.args.get("polish") else None
    return _wav(heard_take(song, take_of(song, take_id), polish))


@blueprint.get("/guide.wav")
def guide_wav(song_id: int) -> ResponseReturnValue:
    """The guide alone, dulled, so that words suggest themselves by sound."""
    song = studio().head(song_id).song
    section = section_of(song, whole_number(request.args.get("section_id"), "section"))
    guide = guide_of(song, section)
    if guide is None:
        raise EditError(f"No guide sings in {section.name}. Write one on the bench, or hum one.")
    dulled = Treat(section.id, guide.id, "lowpass_hz", DULL_HZ).apply(song)
    dulled = Treat(section.id, guide.id, "level_db", max(guide.level_db, -8.0)).apply(dulled)
    return _wav(studio().rendering.alone_wav(dulled, section.id, guide.id))


def _wav(data: bytes) -> Response:
    return Response(data, mimetype="audio/wav", headers={"Cache-Control": "no-store"})


# material and sheets -------------------------------------------------------------------------------------------------------


@blueprint.get("/material")
def material(song_id: int) -> ResponseReturnValue:
    """What could be made of a take: chords under it, grooves that lock with it; asked for when they are looked at."""
    view = view_of(studio().head(song_id))
    take = view.chosen
    trouble, offers, grooves = "", [], []
    if take is not None:
        try:
            heard = None if VOICE_PARTS[take.voice].sung else chords_heard(view.song, view.span, take)
            offers = [heard] if heard else chords_under(view.song, view.span, take)
        except EscaleraError as error:
            trouble = str(error)
        grooves = grooves_near(view.song, view.span, take)
    return render_template("voices/_material.html", **context(view), offers=offers, grooves=grooves, trouble=trouble)


@blueprint.post("/learn")
def learn(song_id: int) -> ResponseReturnValue:
    """The chosen take's strokes are all of one kind: what mouth, hands or table sound like is learnt."""

    def act() -> Outcome:
        head = studio().head(song_id)
        take = take_of(head.song, whole_number(request.form.get("take"), "take"))
        return Outcome(head, studio().mouth.learn(head.song, take, request.form.get("which", "")))

    return answer(song_id, act, _fragments)


@blueprint.get("/<any('words', 'singers'):which>.txt")
def sheet(song_id: int, which: str) -> ResponseReturnValue:
    song = studio().head(song_id).song
    text = lyric_sheet(song) if which == "words" else singers_sheet(song)
    answer = Response(text, mimetype="text/plain")
    answer.headers["Content-Disposition"] = f"attachment; filename={which}.txt"
    answer.headers["Cache-Control"] = "no-store"
    return answer


add_edits(blueprint, _fragments)

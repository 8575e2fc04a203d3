"""Studies: tracks brought in, shown, heard, corrected, noted down, built on, and held beside a section of one's own."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Blueprint, Response, make_response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.cleaning import parse_json
from escalera.core.document.song import ROLES
from escalera.core.edits.edit import section_of
from escalera.core.study import corrections as fix
from escalera.core.study.heard_track import INSTRUMENT_STATES, NOTE_KINDS, Given
from escalera.core.study.words import fingered
from escalera.errors import EscaleraError, InputError, NotFound
from escalera.services.finished_tracks import STAND_INS
from escalera.services.job_kinds import BRING_IN, MADE_UP_TRACK, STEMS, STUDY
from escalera.services.stems import kit_result
from escalera.services.studies import Study, log_of
from escalera.services.study_building import build_on, compare_with, cut_bars, own_wav
from escalera.services.study_hearing import piece_wav
from escalera.services.voice_alone import under_voice
from escalera.store.job_store import Job
from escalera.web.samples import number_of
from escalera.web.song_view import studio
from escalera.web.study_view import StudyView, stone

blueprint = Blueprint("studies", __name__, url_prefix="/studies")


def _number(name: str, default: float = 0.0) -> float:
    """A number of a form. Raises InputError with the field's name."""
    text = request.values.get(name, "").strip()
    if not text:
        return default
    try:
        value = float(text.replace(",", "."))
    except ValueError as error:
        raise InputError(f"“{text[:40]}” is not a number.") from error
    if not abs(value) < 1e7:
        raise InputError(f"“{text[:40]}” is no number that fits here.")
    return value


def view_of(study_id: int) -> StudyView:
    bar = request.values.get("bar", "")
    return StudyView(
        studio().studies.get(study_id), number_of("chosen"), int(bar) if bar.isdecimal() and len(bar) < 6 else -1
    )


def _readings_at_work(study_id: int) -> list[Job]:
    return [job for job in studio().all_at_work(STUDY) if job.options.get("study") == study_id]


def context(study_id: int) -> dict[str, Any]:
    busy = next(iter(_readings_at_work(study_id)), None)
    view = view_of(study_id)
    return {
        "view": view, "study": view.study, "roles": ROLES, "note_kinds": NOTE_KINDS, "states": INSTRUMENT_STATES, "busy": busy,
        "songs": studio().index.all().offered,
    }  # fmt: skip


@blueprint.get("")
def index() -> ResponseReturnValue:
    return render_template("studies/list.html", **_list())


def _list() -> dict[str, Any]:
    """What is at work is looked at before what it makes: what is done by then is shown, and what is not is asked after again."""
    standing = studio().arrivals.standing()
    at_work = studio().at_work(STEMS, STUDY, MADE_UP_TRACK, BRING_IN)
    rows = [(s, stone(s.reading) if s.reading else []) for s in studio().studies.all()]
    return {
        "rows": rows, "standing": standing, "stand_ins": STAND_INS, "at_work": at_work, "kit": kit_result(studio()),
    }  # fmt: skip


@blueprint.get("/list")
def shown_list() -> ResponseReturnValue:
    return render_template("studies/_list.html", **_list())


@blueprint.get("/<int:study_id>")
def page(study_id: int) -> ResponseReturnValue:
    return render_template("studies/page.html", **context(study_id))


@blueprint.get("/<int:study_id>/show")
def show(study_id: int) -> ResponseReturnValue:
    return _fragments(study_id)


def _fragments(study_id: int, said: str = "") -> str:
    return render_template("studies/_changed.html", **context(study_id), summary=said)


def _changed(study_id: int, act: Callable[[], str]) -> ResponseReturnValue:
    try:
        return _fragments(study_id, act())
    except EscaleraError as error:
        return _refused(error)


def _refused(error: EscaleraError) -> ResponseReturnValue:
    """What a person entered does not fit: a sentence, and nothing is changed."""
    status = 422 if isinstance(error, InputError) else error.status
    return render_template("_notice.html", message=str(error), kind="error"), status


@blueprint.post("/made-up/<int:number>")
def made_up(number: int) -> ResponseReturnValue:
    """A finished track that the program makes up, to try it out."""
    studio().make_up_track(number)
    return render_template("studies/_list.html", **_list())


@blueprint.post("/add/<int:sample_id>")
def add(sample_id: int) -> ResponseReturnValue:
    """A recording of the library is a track to take apart."""
    return _to(f"/studies/{studio().add_study(sample_id)}")


@blueprint.post("/made-up-kit")
def made_up_kit() -> ResponseReturnValue:
    """A kit of stems that the program makes up, to try it out."""
    studio().make_up_kit()
    return render_template("studies/_list.html", **_list())


@blueprint.post("/kits/<int:kit>/lay")
def lay_kit(kit: int) -> ResponseReturnValue:
    """Fewer stems of a kit come than were announced: it is laid when those are there."""
    studio().expect_kit(kit, number_of("size"), _number("tempo_bpm"), number_of("bounce_of"))
    return render_template("studies/_list.html", **_list())


@blueprint.post("/<int:study_id>/remove")
def remove(study_id: int) -> ResponseReturnValue:
    studio().studies.remove(study_id)
    return _to("/studies")


def _to(address: str) -> Response:
    """Lead the page somewhere else, whether it asked by a script or by itself."""
    answer = make_response("", 200)
    answer.headers["HX-Redirect"] = address
    return answer


# corrections -------------------------------------------------------------------------------------------------------

Correct = Callable[[Study], Given]


def _text(name: str) -> str:
    return request.form.get(name, "")


def _taps() -> list[float]:
    found = parse_json(_text("taps") or "[]")
    if not isinstance(found, list) or len(found) > 600 or not all(isinstance(x, int | float) for x in found):
        raise InputError("The taps could not be read. Tap again.")
    return [float(x) for x in found]


CORRECTIONS: dict[str, Correct] = {
    "half": lambda s: fix.tempo_times(s.needed(), s.given, 0.5),
    "double": lambda s: fix.tempo_times(s.needed(), s.given, 2.0),
    "tempo": lambda s: fix.tempo_set(s.given, _number("tempo_bpm")),
    "taps": lambda s: fix.tapped(s.given, _taps()),
    "shift": lambda s: fix.beat_shifted(s.needed(), s.given, int(_number("by", 1))),
    "one": lambda s: fix.one_at(s.given, _number("at_s")),
    "metre": lambda s: fix.metre_set(s.needed(), s.given, int(_number("beats_a_bar"))),
    "key": lambda s: fix.key_set(s.given, _text("key")),
    "chords": lambda s: fix.chords_written(s.needed(), s.given, int(_number("first_bar")), int(_number("bars")), _text("line")),
    "chord": lambda s: fix.chord_set(s.needed(), s.given, int(_number("beat")), _text("chord")),
    "split": lambda s: fix.section_split(s.needed(), s.given, int(_number("at_bar"))),
    "join": lambda s: fix.section_joined(s.needed(), s.given, int(_number("section"))),
    "move": lambda s: fix.section_moved(s.needed(), s.given, int(_number("section")), int(_number("at_bar"))),
    "name": lambda s: fix.section_named(s.needed(), s.given, int(_number("section")), _text("name"), _text("role")),
    "forget": lambda s: Given(),
}  # fmt: skip


@blueprint.post("/<int:study_id>/correct/<kind>")
def correct(study_id: int, kind: str) -> ResponseReturnValue:
    """Take a correction over and read what follows from it anew."""

    def act() -> str:
        if kind not in CORRECTIONS:
            raise NotFound("There is no such correction. Load the page again.")
        studio().studies.correct(study_id, CORRECTIONS[kind])
        studio().read_study(study_id)
        return "Kept. What follows from it is read anew."

    return _changed(study_id, act)


@blueprint.post("/<int:study_id>/read")
def read(study_id: int) -> ResponseReturnValue:
    def act() -> str:
        studio().read_study(study_id)
        return "It is read again."

    return _changed(study_id, act)


@blueprint.post("/<int:study_id>/stop")
def stop(study_id: int) -> ResponseReturnValue:
    """Call off its reading; what was read before stays."""

    def act() -> str:
        for job in _readings_at_work(study_id):
            studio().jobs.stop(job.id)
        return "Called off. What was read before is still there."

    return _changed(study_id, act)


@blueprint.get("/<int:study_id>/fingered")
def fingered_key(study_id: int) -> ResponseReturnValue:
    """The key that is fingered where strings are tuned down or stopped by a capo."""
    reading = studio().studies.get(study_id).needed()
    said = fingered(reading.key, number_of("tuned_down"), number_of("capo")) if reading.key else ""
    return Response(f"fingered in {said}" if said else "", mimetype="text/plain")


# notes -------------------------------------------------------------------------------------------------------------


@blueprint.post("/<int:study_id>/notes/<action>")
def notes(study_id: int, action: str) -> ResponseReturnValue:
    """Own words: a note, an instrument of the checklist, its state and place, or one taken away."""

    def act() -> str:
        at = request.form.get("at_s", "")
        id, place = int(_number("id")), request.form.get("place", "")
        changes = {
            "note": lambda b: b.with_note(_text("text"), _text("kind") or "note", _number("at_s") if at else None),
            "instrument": lambda b: b.with_instrument(_text("name")),
            "state": lambda b: b.with_state(id, _text("state")),
            "place": lambda b: b.with_place(id, _number("place") if place else None),
            "remove": lambda b: b.without(id),
        }
        if action not in changes:
            raise NotFound("There is nothing of that kind to note. Load the page again.")
        studio().studies.note(study_id, changes[action])
        return "Noted."

    return _changed(study_id, act)


@blueprint.get("/<int:study_id>/notes.md")
def log(study_id: int) -> ResponseReturnValue:
    """What was learned, as a text to keep."""
    study = studio().studies.get(study_id)
    view = StudyView(study)
    lines = [f"# {study.name}", "", *(f"- {x}" for x in log_of(study)), "", *(f"- {x}" for x in view.remarks)]
    return Response(
        "\n".join(lines) + "\n",
        mimetype="text/markdown",
        headers={"Content-Disposition": f"attachment; filename=study-{study_id}.md"},
    )


# hearing -----------------------------------------------------------------------------------------------------------


@blueprint.get("/<int:study_id>/piece.wav")
def piece(study_id: int) -> ResponseReturnValue:
    """A piece of the track as it is asked for; the same address always gives the same sound."""
    study = studio().studies.get(study_id)
    lufs = study.reading.loudness_lufs if study.reading else None
    data = piece_wav(
        study.content,
        lufs,
        _number("from"),
        _number("to"),
        _number("speed", 1.0),
        bool(number_of("octave")),
        request.args.get("part", "all"),
    )
    return Response(data, mimetype="audio/wav", headers={"Cache-Control": "private, max-age=86400"})


# building and comparing --------------------------------------------------------------------------------------------


@blueprint.post("/<int:study_id>/build")
def build(study_id: int) -> ResponseReturnValue:
    """A new song on its shape, or a section of a song on the shape of one of its sections."""
    try:
        song_id, section_id = build_on(
            studio(), study_id, request.form.get("title", ""), bool(request.form.get("with_chords")), number_of("song"),
            number_of("chosen") if request.form.get("one_section") else None,
        )  # fmt: skip
    except EscaleraError as error:
        return _refused(error)
    return _to(f"/songs/{song_id}" + (f"?select=section:{section_id}" if section_id else ""))


@blueprint.post("/<int:study_id>/cut")
def cut(study_id: int) -> ResponseReturnValue:
    """Marked bars as a sample of the library; its source and that it is not cleared go with it."""

    def act() -> str:
        name = cut_bars(studio(), study_id, int(_number("first_bar")), int(_number("bars", 1)))
        return f"{name} is among the samples, not cleared: say whose it is before you publish anything with it."

    return _changed(study_id, act)


@blueprint.get("/<int:study_id>/beside")
def beside_own(study_id: int) -> ResponseReturnValue:
    """A section of a song beside the chosen section: what differs, and what would bring it nearer."""
    view = view_of(study_id)
    song_id = number_of("song")
    head = studio().head(song_id)
    wanted = number_of("own_section")
    section = section_of(head.song, wanted) if wanted in head.song.section_by_id else (head.song.sections or (None,))[0]
    if section is None:
        return render_template("_notice.html", message="This song has no sections yet.", kind="error"), 400
    found = compare_with(studio(), view.study, view.chosen, head.song, section.id)
    return render_template("studies/_beside.html", view=view, head=head, section=section, found=found, study=view.study)


@blueprint.get("/<int:study_id>/under")
def under(study_id: int) -> ResponseReturnValue:
    """Three progressions under a voice that sings alone in the chosen section, every clash named."""
    view = view_of(study_id)
    try:
        found = under_voice(view.study, view.chosen)
    except EscaleraError as error:
        return _refused(error)
    return render_template("studies/_under.html", view=view, found=found)


@blueprint.get("/<int:study_id>/own/<int:song_id>/<int:revision_id>/<int:section_id>.wav")
def own(study_id: int, song_id: int, revision_id: int, section_id: int) -> ResponseReturnValue:
    """A section of a song at the loudness at which the track is heard."""
    song = studio().state(song_id, revision_id)
    section_of(song, section_id)
    return Response(
        own_wav(studio(), song, section_id), mimetype="audio/wav", headers={"Cache-Control": "private, max-age=86400"}
    )

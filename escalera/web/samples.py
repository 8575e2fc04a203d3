"""The library of samples: the wall of all of them, bringing files in, correcting what was read, where each came from."""

from __future__ import annotations

from collections.abc import Callable

from flask import Blueprint, Response, jsonify, make_response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.edits.edit import whole_number
from escalera.core.samples.finding import wish_from
from escalera.core.samples.licences import LICENCES
from escalera.errors import EscaleraError, InputError
from escalera.services.arrivals import BESIDE, PIECE_BYTES
from escalera.services.job_kinds import BRING_IN, OWN_SAMPLES
from escalera.services.sample_hearing import alone_wav
from escalera.services.textures import make_texture
from escalera.web.sample_view import Wall
from escalera.web.song_view import studio

blueprint = Blueprint("samples", __name__, url_prefix="/samples")
FIELDS = ("words", "sample_kind", "tempo_low", "tempo_high", "key", "transposed_by", "has", "used_in", "near", "sort")


def number_of(name: str) -> int:
    """A number among what is asked for; 0 where there is none."""
    text = request.values.get(name, "")
    return int(text) if text.isdecimal() and len(text) < 10 else 0


def wall_of() -> Wall:
    """The wall that is asked for. A wish that cannot be read is said, and everything is shown."""
    return Wall(studio().samples, wish_from(request.values), number_of("chosen"))


def context(wall: Wall) -> dict[str, object]:
    return {
        "wall": wall,
        "licences": LICENCES,
        "fields": {name: request.values.get(name, "") for name in FIELDS},
        "number": number_of("page"),
        "wanted": studio().samples.wanted(),
        "arriving": studio().at_work(BRING_IN),
        "making": studio().at_work(OWN_SAMPLES),
        "standing": studio().arrivals.standing(),
        "songs": {card.id: card.title for card in studio().cards()} if wall.song is None else {},
    }


@blueprint.get("")
def page() -> ResponseReturnValue:
    return render_template("samples/page.html", **context(wall_of()))


@blueprint.get("/wall")
def shown() -> ResponseReturnValue:
    """The wall and what is chosen of it, after another wish."""
    return _fragments()


@blueprint.get("/more")
def more() -> ResponseReturnValue:
    """Further tiles of the same wall."""
    return render_template("samples/_tiles.html", **context(wall_of()))


@blueprint.get("/side")
def side() -> ResponseReturnValue:
    return render_template("samples/_side.html", **context(wall_of()))


def _fragments(said: str = "") -> str:
    return render_template("samples/_changed.html", **context(wall_of()), summary=said)


def _changed(act: Callable[[], str]) -> ResponseReturnValue:
    """The page's parts after an act, or the reason why not."""
    try:
        return _fragments(act())
    except EscaleraError as error:
        return make_response(render_template("_notice.html", message=str(error), kind="error"), error.status)


@blueprint.get("/<int:sample_id>/<content>.wav")
def hear(sample_id: int, content: str) -> ResponseReturnValue:
    """A sample by itself, at the loudness that all are heard at. Named by its content, so that it may be kept."""
    answer = Response(alone_wav(studio().samples, sample_id), mimetype="audio/wav")
    answer.headers["Cache-Control"] = "private, max-age=86400, immutable"
    return answer


@blueprint.post("/<int:sample_id>/correct")
def correct(sample_id: int) -> ResponseReturnValue:
    return _changed(lambda: f"{studio().samples.correct(sample_id, request.form)} is read as you say.")


@blueprint.post("/<int:sample_id>/describe")
def describe(sample_id: int) -> ResponseReturnValue:
    return _changed(lambda: f"{studio().samples.describe(sample_id, request.form)} is described.")


@blueprint.post("/<int:sample_id>/favourite")
def favourite(sample_id: int) -> ResponseReturnValue:
    def act() -> str:
        studio().samples.set_favourite(sample_id, request.form.get("liked") == "1")
        return ""

    return _changed(act)


@blueprint.post("/<int:sample_id>/rejected")
def rejected(sample_id: int) -> ResponseReturnValue:
    def act() -> str:
        song_id = whole_number(request.form.get("song_id", ""), "song")
        studio().samples.set_rejected(sample_id, song_id, request.form.get("rejected") == "1")
        return ""

    return _changed(act)


@blueprint.post("/<int:sample_id>/texture")
def texture(sample_id: int) -> ResponseReturnValue:
    """A texture of a sample, as a sample of its own."""
    form = request.form
    times = float(whole_number(form.get("times", "8"), "number of times", 1, 100))
    kind, seed = form.get("texture", "smear"), whole_number(form.get("seed", "1"), "seed", 0, 2**31 - 1)
    return _changed(lambda: f"“{make_texture(studio().samples, sample_id, times, kind, seed)[1]}” is in the library.")


@blueprint.post("/<int:sample_id>/remove")
def remove(sample_id: int) -> ResponseReturnValue:
    return _changed(lambda: f"{studio().samples.remove(sample_id)} was taken out of the library.")


@blueprint.post("/wanted")
def want() -> ResponseReturnValue:
    def act() -> str:
        form = request.form
        studio().samples.want(form.get("words", ""), number_of("song_id"), form.get("stand_in", ""))
        return "It is noted, and offered when something near comes in."

    return _changed(act)


@blueprint.post("/wanted/<int:wanted_id>/forget")
def forget(wanted_id: int) -> ResponseReturnValue:
    def act() -> str:
        studio().samples.forget_wanted(wanted_id)
        return "It is not looked for any more."

    return _changed(act)


@blueprint.post("/own")
def own() -> ResponseReturnValue:
    def act() -> str:
        studio().make_own_samples()
        return "The program’s own samples are being made."

    return _changed(act)


# files on their way ------------------------------------------------------------------------------------------------


@blueprint.post("/arrivals")
def begin() -> ResponseReturnValue:
    """Announce a file; the answer says under which name its pieces go, and how large they are."""
    size = whole_number(request.form.get("size", ""), "size", 0)
    try:
        token = studio().arrivals.begin(
            request.form.get("name", ""),
            size,
            {
                k: number_of(k)
                for k in ("bounce_of", "study", "kit", "kit_size", "kit_tempo", "sung_in", "section", BESIDE)
            },
        )
    except InputError as error:
        return jsonify(trouble=str(error)), 400
    return jsonify(token=token, piece_bytes=PIECE_BYTES)


@blueprint.get("/arrivals/<token>")
def came(token: str) -> ResponseReturnValue:
    return jsonify(pieces=studio().arrivals.pieces(token))


@blueprint.post("/arrivals/<token>/<int:number>")
def piece(token: str, number: int) -> ResponseReturnValue:
    """One piece; after the last one the file is read in the background."""
    last = studio().arrivals.piece(token, number, request.get_data())
    if last:
        studio().read_arrivals()
    return jsonify(whole=last)


@blueprint.post("/arrivals/stop")
def stop() -> ResponseReturnValue:
    def act() -> str:
        count = studio().arrivals.stop()
        return f"{count} files were called off." if count else "Nothing was waiting."

    return _changed(act)


@blueprint.post("/arrivals/clear")
def clear() -> ResponseReturnValue:
    def act() -> str:
        studio().arrivals.clear_log()
        return ""

    return _changed(act)


@blueprint.get("/arrivals")
def standing() -> ResponseReturnValue:
    """How far bringing in and making are; the page asks while something is under way."""
    job = studio().at_work(OWN_SAMPLES)
    now = studio().arrivals.standing()
    return jsonify(
        waiting=now.waiting, read=len(now.lines), refused=sum(x.get("state") == "refused" for x in now.lines),
        reading=studio().at_work(BRING_IN) is not None, making=round(100 * job.share) if job else None, count=studio().samples.count(),
    )  # fmt: skip

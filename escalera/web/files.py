"""Files in and out: import, hand over, the project schema."""

from __future__ import annotations

import secrets
import shutil
import tempfile
from pathlib import Path

from flask import Blueprint, redirect, render_template, request, send_file, session, url_for
from flask.typing import ResponseReturnValue
from werkzeug.utils import secure_filename

from escalera.cleaning import clean_line
from escalera.core.document.limits import MAX_NAME
from escalera.core.edits.edit import whole_number
from escalera.core.handing.file_names import SCHEMES, file_names, names_of_stems
from escalera.core.handing.heard_stems import heard_points
from escalera.core.handing.readiness import not_ready
from escalera.core.handing.receivers import PARTS, RECEIVERS, parts_for
from escalera.core.reading.rights import open_points
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError, shown
from escalera.formats.audio import KINDS
from escalera.formats.project import project_schema
from escalera.formats.zip_gate import MOST_ENTRIES
from escalera.services.exporting import FORMATS, format_of
from escalera.services.importing import Imported, import_path
from escalera.services.job_kinds import HEARD, PACK, RETURNED, TAKEN
from escalera.services.stems_heard import stems_from
from escalera.services.taking_back import WAYS, read_found
from escalera.store.job_store import Job
from escalera.web.drawing import wave_path
from escalera.web.song_view import song_view, studio

blueprint = Blueprint("files", __name__)
QUICK_S = 5.0  # so long an answer waits for a file that needs no sound


@blueprint.route("/import", methods=["GET", "POST"])
def bring_in() -> ResponseReturnValue:
    message = ""
    if request.method == "POST":
        try:
            found = _imported()
            song_id = studio().add_song(found.song, "Imported")
            studio().adopt_samples(song_id)
            session["import_report"] = [song_id, list(found.report)[:12]]
            return redirect(url_for("stair.page", song_id=song_id))
        except InputError as error:
            message = str(error)
    return render_template("files/import.html", message=message), 422 if message else 200


def _imported() -> Imported:
    """What was sent in one go, or waits since it came in pieces."""
    if request.form.get("beside"):
        folder = studio().returned_folder(request.form["beside"])
        path = next(iter(sorted(folder.glob("*"))), None)
        if path is None:
            raise InputError("The file is not there any more. Choose it again.")
        try:
            return import_path(path, studio().samples, tempo=request.form.get("tempo", ""))
        finally:
            shutil.rmtree(folder, ignore_errors=True)
    upload = request.files.get("file")
    if upload is None or not upload.filename:
        raise InputError("No file was chosen. Choose a MIDI file or an Escalera project.")
    with tempfile.TemporaryDirectory(dir=studio().folder) as temporary:
        path = Path(temporary) / (secure_filename(upload.filename) or "file")
        upload.save(path)
        return import_path(path, studio().samples, upload.filename, request.form.get("tempo", ""))


@blueprint.get("/songs/<int:song_id>/handover")
def handover(song_id: int) -> ResponseReturnValue:
    view = song_view(studio().head(song_id), measure=False)
    job = studio().last_job(HEARD, song_id)
    return render_template(
        "files/handover.html",
        heard=_heard(job) if job and job.revision_id == view.head.revision_id else "",
        view=view,
        song=view.song,
        head=view.head,
        formats=FORMATS,
        not_cleared=open_points(view.song),
        points=not_ready(view.song),
        receivers=RECEIVERS,
        parts=PARTS,
        schemes={key: ", ".join(names_of_stems(view.song, key)[:2]) or key for key in SCHEMES},
        kinds=KINDS,
        selected=clean_line(request.args.get("select", ""), 80),
    )


@blueprint.post("/songs/<int:song_id>/export/<key>")
def begin(song_id: int, key: str) -> ResponseReturnValue:
    """Make a file in the background; the answer asks for itself until the file is there."""
    head, args = studio().head(song_id), request.form
    stems, wet, bits = (
        args.get("stems") == "1",
        args.get("wet", "1") == "1",
        whole_number(args.get("bits", "16"), "depth in bits", 16, 24),
    )
    row = format_of(key, stems)
    kind = " stems" if stems else ""
    label = f"{row.label}{kind}, {bits} bit" if row.audio else row.label
    options = {"format": key, "stems": stems, "wet": wet, "bits": bits}
    name = studio().jobs.start("export", song_id, head.revision_id, options, label)
    if not row.audio:  # made in an instant: the answer need not be asked for again
        studio().jobs.wait(name, QUICK_S)
    return _told(studio().jobs.get(name))


@blueprint.post("/songs/<int:song_id>/pack")
def begin_pack(song_id: int) -> ResponseReturnValue:
    """Make a pack in the background, for a receiver or of the parts that are ticked."""
    head, form = studio().head(song_id), request.form
    receiver, scheme, kind = form.get("receiver", ""), form.get("scheme", "number"), form.get("kind", "wav")
    parts = parts_for(receiver, ",".join(form.getlist("part")))
    file_names(head.song.title, [], scheme)
    if kind not in KINDS:
        raise InputError(f"“{shown(kind)}” is no kind of sound file. Choose one of: {', '.join(KINDS)}.")
    options = {"parts": list(parts), "receiver": receiver, "scheme": scheme, "kind": kind}
    label = f"Pack for {RECEIVERS[receiver].label.lower()}" if receiver in RECEIVERS else "Pack"
    return _told(studio().jobs.get(studio().jobs.start(PACK, song_id, head.revision_id, options, label)))


@blueprint.post("/songs/<int:song_id>/stems-heard")
def hear_stems(song_id: int) -> ResponseReturnValue:
    """Listen to every stem in the background: what would clip, is silent, breaks off."""
    job = studio().jobs.start(HEARD, song_id, studio().head(song_id).revision_id, {}, "Listening to the stems")
    return _heard(studio().jobs.get(job))


@blueprint.get("/stems-heard/<name>")
def ask_heard(name: str) -> ResponseReturnValue:
    """How far listening is, or what was heard."""
    return _heard(studio().jobs.get(name))


def _heard(job: Job) -> str:
    song = studio().state(job.song_id, job.revision_id)
    stems = stems_from(studio().jobs.path(job).read_text()) if job.state == "done" else []
    return render_template("files/_heard.html", job=job, stems=stems, points=heard_points(song, stems), song=song)


@blueprint.post("/songs/<int:song_id>/returned")
def came_back(song_id: int) -> ResponseReturnValue:
    """Files that came back are looked at in the background, and laid beside the song; nothing is taken."""
    head, token = studio().head(song_id), request.form.get("beside") or secrets.token_hex(8)
    folder = studio().returned_folder(token)
    folder.mkdir(parents=True, exist_ok=True)
    for number, upload in enumerate([f for f in request.files.getlist("file") if f.filename][:MOST_ENTRIES]):
        name = secure_filename(upload.filename or "") or "file"
        upload.save(folder / (name if not (folder / name).exists() else f"{number}-{name}"))
    if not any(folder.iterdir()):
        raise InputError("No file was chosen. Choose the stems, MIDI files or projects that came back.")
    job = studio().jobs.start(RETURNED, song_id, head.revision_id, {"token": token}, "Looking at what came back")
    return _looked_at(studio().jobs.get(job))


@blueprint.get("/returned/<name>")
def ask_returned(name: str) -> ResponseReturnValue:
    """How far looking is, or what was found."""
    return _looked_at(studio().jobs.get(name))


def _looked_at(job: Job) -> str:
    found = read_found(studio().jobs.path(job)) if job.state == "done" else None
    song = studio().state(job.song_id, job.revision_id)
    edges = [span.start_seconds / timeline(song).seconds for span in timeline(song).spans]
    return render_template("files/_returned.html", job=job, found=found, ways=WAYS, wave_path=wave_path, edges=edges)


@blueprint.post("/returned/<name>/take")
def take_chosen(name: str) -> ResponseReturnValue:
    """Take what was chosen of it, in the background; the answer asks for itself until it is done."""
    looked, form = studio().jobs.get(name), request.form
    ways = {k: v for k, v in form.items() if k.startswith(("way:", "part:")) and v}
    if not any(k.startswith("way:") for k in ways):
        raise InputError("Nothing was chosen, so nothing was taken. Say in what way a file is to be taken.")
    options = {"looked": looked.id, "ways": ways, "who": clean_line(form.get("who", ""), MAX_NAME)}
    job = studio().jobs.start(TAKEN, looked.song_id, looked.revision_id, options, "Taking what came back")
    studio().jobs.wait(job, QUICK_S)
    return _taken(studio().jobs.get(job))


@blueprint.get("/taken/<name>")
def ask_taken(name: str) -> ResponseReturnValue:
    """How far taking is, or what was taken."""
    return _taken(studio().jobs.get(name))


def _taken(job: Job) -> str:
    said = studio().jobs.path(job).read_text() if job.state == "done" else ""
    return render_template("files/_taken.html", job=job, said=said)


def _told(job: Job) -> str:
    return render_template("files/_job.html", job=job, name=job.id)


@blueprint.route("/exports/<name>", methods=["GET", "DELETE", "POST"])
def ask(name: str) -> ResponseReturnValue:
    """How far it is; DELETE calls it off, POST tries it again."""
    act = {"DELETE": studio().jobs.stop, "POST": studio().jobs.again}.get(request.method, studio().jobs.get)
    return _told(act(name))


@blueprint.get("/exports/<name>/file")
def take(name: str) -> ResponseReturnValue:
    job = studio().jobs.get(name)
    if job.state != "done":
        raise InputError(job.trouble or "The file is not ready yet. Wait until it is.")
    path = studio().jobs.path(job)
    answer = send_file(path, mimetype=job.mimetype, as_attachment=True, download_name=path.name, conditional=False)
    answer.headers["Cache-Control"] = "no-store"  # the same name means another file after an edit
    return answer


@blueprint.get("/project.schema.json")
def schema() -> ResponseReturnValue:
    return project_schema()

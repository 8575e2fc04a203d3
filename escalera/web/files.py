"""Files in and out: import, hand over, the project schema."""

from __future__ import annotations

import io
from dataclasses import replace

from flask import Blueprint, redirect, render_template, request, send_file, session, url_for
from flask.typing import ResponseReturnValue

from escalera.errors import InputError
from escalera.formats.project import project_schema
from escalera.services.exporting import FORMATS, Options, export
from escalera.services.importing import import_file
from escalera.web.song_view import song_view, studio

blueprint = Blueprint("files", __name__)


@blueprint.route("/import", methods=["GET", "POST"])
def bring_in() -> ResponseReturnValue:
    message = ""
    if request.method == "POST":
        upload = request.files.get("file")
        try:
            if upload is None or not upload.filename:
                raise InputError("No file was chosen. Choose a MIDI file or an Escalera project.")
            found = import_file(upload.filename, upload.read())
            song_id = studio().add_song(found.song, "Imported")
            session["import_report"] = [song_id, list(found.report)[:12]]
            return redirect(url_for("stair.page", song_id=song_id))
        except InputError as error:
            message = str(error)
    return render_template("files/import.html", message=message), 422 if message else 200


@blueprint.get("/songs/<int:song_id>/handover")
def handover(song_id: int) -> ResponseReturnValue:
    view = song_view(studio().head(song_id), measure=False)
    return render_template("files/handover.html", view=view, song=view.song, head=view.head, formats=FORMATS)


@blueprint.get("/songs/<int:song_id>/export/<key>")
def take_away(song_id: int, key: str) -> ResponseReturnValue:
    args = request.args
    options = Options(args.get("stems") == "1", args.get("wet", "1") == "1", args.get("bits", 16, type=int))
    name, mimetype, data = export(studio().head(song_id).song, studio().rendering, key, options)
    return send_file(io.BytesIO(data), mimetype=mimetype, as_attachment=True, download_name=name)


@blueprint.post("/songs/<int:song_id>/export/<key>")
def begin(song_id: int, key: str) -> ResponseReturnValue:
    """Make a file in the background; the answer asks for itself until the file is there."""
    song, args = studio().head(song_id).song, request.form
    options = Options(args.get("stems") == "1", args.get("wet", "1") == "1", args.get("bits", 16, type=int))
    label = f"{FORMATS[key].label if key in FORMATS else key}{', stems' if options.stems else ''}, {options.bits} bit"
    rendering = studio().rendering
    name = studio().jobs.start(
        label, lambda tell, wanted: export(song, rendering, key, replace(options, tell=tell, wanted=wanted))
    )
    return render_template("files/_job.html", job=studio().jobs.get(name), name=name)


@blueprint.route("/exports/<name>", methods=["GET", "DELETE"])
def ask(name: str) -> ResponseReturnValue:
    job = studio().jobs.get(name)
    if request.method == "DELETE":
        job.wanted = False
    return render_template("files/_job.html", job=job, name=name)


@blueprint.get("/exports/<name>/file")
def take(name: str) -> ResponseReturnValue:
    job = studio().jobs.get(name)
    if not job.done or job.trouble:
        raise InputError(job.trouble or "The file is not ready yet. Wait until it is.")
    file_name, mimetype, data = job.future.result()
    return send_file(io.BytesIO(data), mimetype=mimetype, as_attachment=True, download_name=file_name)


@blueprint.get("/project.schema.json")
def schema() -> ResponseReturnValue:
    return project_schema()

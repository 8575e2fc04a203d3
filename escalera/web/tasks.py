"""Tasks: written as people say them, taken up, worked on beside the stair, handed in and judged, also as a class."""

from __future__ import annotations

import secrets
import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path, PurePosixPath

from flask import Blueprint, Response, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from escalera.cleaning import clean_line
from escalera.core.document.song import Song
from escalera.core.document.task import MAX_FEEDBACK, MAX_WEIGHT
from escalera.core.edits.edit import id_in, section_of, whole_number, within
from escalera.core.handing.file_names import plain_name
from escalera.core.tasks.marks import by_bar
from escalera.core.tasks.task_edits import DropTask, TakeHint, TakeTask
from escalera.core.tasks.task_text import read_task, said_of
from escalera.errors import EditError, EscaleraError, InputError
from escalera.services.job_kinds import JUDGED
from escalera.services.new_song import new_song
from escalera.services.passages import passage
from escalera.services.task_library import of_course, task_library
from escalera.services.tasks import (
    free_name,
    is_project_bundle,
    need_few,
    plain_file_name,
    task_text,
    unpack_submissions,
)
from escalera.web.song_view import studio

blueprint = Blueprint("tasks", __name__)
LEAD_BARS, HEARD_BARS = 2, 8


@blueprint.get("/tasks")
def page() -> ResponseReturnValue:
    return render_template("tasks/list.html", **_list())


def _list(**more: object) -> dict[str, object]:
    return {
        "own": studio().tasks.all(),
        "course": [t.task for t in task_library()],
        "songs": studio().index.all().offered,
        **more,
    }


@blueprint.post("/tasks")
def write() -> ResponseReturnValue:
    """A task from text, from a file, from the library, or from a song's form."""
    form, file = request.form, request.files.get("file")
    try:
        if form.get("library"):
            task_id = studio().tasks.of_library(whole_number(form["library"], "number", 0))
        elif form.get("song"):
            task_id = studio().tasks.of_song(studio().head(id_in(form["song"])).song)
        elif file is not None and file.filename:
            task_id = studio().tasks.read_in(file.read())
        else:
            task_id = studio().tasks.write(form.get("text", ""), form.get("title", ""))
    except EscaleraError as error:
        return render_template("tasks/list.html", **_list(trouble=str(error), given=form)), error.status
    return redirect(url_for("tasks.one", task_id=task_id))


@blueprint.get("/tasks/<int:task_id>")
def one(task_id: int) -> ResponseReturnValue:
    return render_template("tasks/page.html", **_context(task_id))


def _context(task_id: int, **more: object) -> dict[str, object]:
    kept = studio().tasks.get(task_id)
    task = kept.task
    left = read_task(task.said, task.title).left if task.said else ()
    job = next((j for j in studio().all_at_work(JUDGED) if j.options.get("task") == task_id), None)
    return {
        "kept": kept, "task": task, "said_of": said_of, "left": left, "songs": studio().index.all().offered,
        "example": of_course(task) is not None, "submissions": studio().tasks.submissions(task_id), "shared": [] if job else studio().tasks.shared(task_id), "job": job, **more,
    }  # fmt: skip


def _done(task_id: int, act: Callable[[], str]) -> ResponseReturnValue:
    try:
        said = act()
    except EscaleraError as error:
        return render_template("tasks/_task.html", **_context(task_id, trouble=str(error))), error.status
    return render_template("tasks/_task.html", **_context(task_id, said=said))


@blueprint.post("/tasks/<int:task_id>")
def change(task_id: int) -> ResponseReturnValue:
    """Weights, sentences for those who miss, the explanation."""
    return _done(task_id, lambda: _changed(task_id))


def _changed(task_id: int) -> str:
    form, task = request.form, studio().tasks.get(task_id).task
    rows = []
    for number, criterion in enumerate(task.criteria):
        weight = form.get(f"weight.{number}", f"{criterion.weight:g}").replace(",", ".")
        try:
            value = within(float(weight), 0.0, MAX_WEIGHT, "A weight of")
        except ValueError:
            raise EditError(f"“{clean_line(weight, 20)}” is no weight. Write a number.") from None
        rows.append(
            replace(
                criterion,
                weight=value,
                feedback=clean_line(form.get(f"feedback.{number}", criterion.feedback), MAX_FEEDBACK),
            )
        )
    studio().tasks.change(task_id, replace(task, criteria=tuple(rows)))
    return "The task is kept."


@blueprint.post("/tasks/<int:task_id>/forget")
def forget(task_id: int) -> ResponseReturnValue:
    studio().tasks.forget(task_id)
    return redirect(url_for("tasks.page"))


@blueprint.get("/tasks/<int:task_id>/task.json")
def as_file(task_id: int) -> ResponseReturnValue:
    """The task as a file to hand out."""
    task = studio().tasks.get(task_id).task
    headers = {"Content-Disposition": f"attachment; filename={plain_name(task.title)}.task.json"}
    return Response(task_text(task), mimetype="application/json", headers=headers)


@blueprint.post("/tasks/<int:task_id>/begin")
def begin(task_id: int) -> ResponseReturnValue:
    """Take the task up with a new song, or with one of the shelf."""
    task, song = studio().tasks.get(task_id).task, request.form.get("song", "")
    song_id = id_in(song)
    song_id = song_id or studio().add_song(
        new_song(title=task.title, start="plain-start"), f"Begun for the task {task.title}"
    )
    head = studio().head(song_id)
    studio().edit(song_id, head.revision_id, TakeTask(task_text(task)))
    return redirect(url_for("stair.page", song_id=song_id, select="song"))


@blueprint.post("/tasks/<int:task_id>/example")
def example(task_id: int) -> ResponseReturnValue:
    """A song that passes a task of the course, or one that fails, on the shelf with the task beside it."""
    task, which = studio().tasks.get(task_id).task, request.form.get("which", "")
    found = of_course(task)
    if found is None or which not in ("passes", "fails"):
        raise InputError(
            "There are examples for the tasks of the course only, of work that passes and of work that fails."
        )
    song = replace((found.passes if which == "passes" else found.fails)(), title=f"{task.title}, {which}", task=task)
    return redirect(url_for("stair.page", song_id=studio().add_song(song, f"Example: {which}"), select="song"))


# a class ----------------------------------------------------------------------------------------------------------


@blueprint.post("/tasks/<int:task_id>/judge")
def hand_in(task_id: int) -> ResponseReturnValue:
    """Files that were handed in, or a zip of them, judged in the background."""
    return _done(task_id, lambda: _handed_in(task_id))


def _handed_in(task_id: int) -> str:
    studio().tasks.get(task_id)
    token = secrets.token_hex(8)
    folder = studio().submitted_folder(token)
    folder.mkdir(parents=True)
    try:
        files = _saved(folder)
        need_few(len(files))
    except EscaleraError:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    job = studio().jobs.start(JUDGED, 0, 0, {"task": task_id, "token": token, "files": files}, "Judging")
    studio().jobs.wait(job, 2.0)
    return f"{len(files)} {'submission was' if len(files) == 1 else 'submissions were'} handed in."


def _saved(folder: Path) -> list[list[str]]:
    """What was uploaded, put into a folder, zips of submissions opened: the name of each and its file."""
    files, names = list[list[str]](), set[str]()
    for number, upload in enumerate(f for f in request.files.getlist("file") if f.filename):
        name = plain_file_name(upload.filename or "")
        path = folder / f"up{number}{PurePosixPath(name).suffix.lower()[:6]}"
        upload.save(path)
        if path.suffix == ".zip" and not is_project_bundle(path):
            inside = folder / str(number)
            inside.mkdir()
            found = unpack_submissions(path, inside)
            files += [[free_name(inner, names), f"{number}/{each.name}"] for inner, each in found]
        else:
            files.append([free_name(name, names), path.name])
    return files


@blueprint.get("/tasks/<int:task_id>/class")
def class_list(task_id: int) -> ResponseReturnValue:
    """The class as it stands, asked for again while it is judged."""
    return render_template("tasks/_class.html", **_context(task_id))


@blueprint.post("/tasks/<int:task_id>/class/forget")
def forget_class(task_id: int) -> ResponseReturnValue:
    return _done(task_id, lambda: studio().tasks.forget_class(task_id))


@blueprint.get("/tasks/<int:task_id>/class.csv")
def table(task_id: int) -> ResponseReturnValue:
    headers = {"Content-Disposition": "attachment; filename=class.csv"}
    return Response(studio().tasks.table(task_id), mimetype="text/csv", headers=headers)


@blueprint.get("/tasks/<int:task_id>/submissions/<int:submission_id>")
def submission(task_id: int, submission_id: int) -> ResponseReturnValue:
    """One submission, criterion by criterion."""
    return _one_submission(task_id, submission_id)


def _one_submission(task_id: int, submission_id: int, status: int = 200, **more: object) -> ResponseReturnValue:
    found, song = studio().tasks.submission(task_id, submission_id)
    path = f"/tasks/{task_id}/submissions/{submission_id}"
    return render_template(
        "tasks/submission.html",
        found=found,
        song=song,
        path=path,
        kept=studio().tasks.get(task_id),
        comments=by_bar(found.marks) if found.marks else [],
        **more,
    ), status


@blueprint.post("/tasks/<int:task_id>/submissions/<int:submission_id>")
def override(task_id: int, submission_id: int) -> ResponseReturnValue:
    """Other points for a criterion, with the reason."""
    form = request.form
    text = form.get("points", "").strip().replace(",", ".")
    try:
        points = float(text) if text else None
    except ValueError:
        return _one_submission(task_id, submission_id, 422, trouble=f"“{clean_line(text, 20)}” is no number of points.")
    try:
        number = whole_number(form.get("number", ""), "number", 0)
        studio().tasks.override(task_id, submission_id, number, points, form.get("reason", ""))
    except EscaleraError as error:
        return _one_submission(task_id, submission_id, error.status, trouble=str(error))
    return _one_submission(
        task_id, submission_id, said="The points are kept." if points is not None else "The program's own points count."
    )


@blueprint.get("/tasks/<int:task_id>/submissions/<int:submission_id>/<int:section_id>.wav")
def hear_submission(task_id: int, submission_id: int, section_id: int) -> ResponseReturnValue:
    """The place of a submission that evidence points to."""
    _, song = studio().tasks.submission(task_id, submission_id)
    if song is None:
        raise InputError("This submission could not be read, so it cannot be heard.")
    return _heard(song, section_id)


def _heard(song: Song, section_id: int) -> Response:
    section_of(song, section_id)
    found = passage(studio().rendering, song, section_id, LEAD_BARS, HEARD_BARS)
    return Response(found.wav, mimetype="audio/wav", headers={"Cache-Control": "no-store"})


# working ----------------------------------------------------------------------------------------------------------


@blueprint.get("/songs/<int:song_id>/task")
def beside(song_id: int) -> ResponseReturnValue:
    """The task of a song, each criterion as it stands."""
    part = bool(request.headers.get("HX-Request"))
    return render_template("tasks/_work.html" if part else "tasks/work.html", **_work(song_id))


def _work(song_id: int, **more: object) -> dict[str, object]:
    head = studio().head(song_id)
    song, task = head.song, head.song.task
    marks = studio().tasks.marks_now(task, song) if task is not None else None
    return {
        "head": head,
        "song": song,
        "task": task,
        "marks": marks,
        "path": f"/songs/{song_id}/task",
        "own": studio().tasks.all(),
        **more,
    }


@blueprint.post("/songs/<int:song_id>/task")
def work(song_id: int) -> ResponseReturnValue:
    """Take a task up or lay it down, ask for a hint, measure what needs sound."""
    form, head = request.form, studio().head(song_id)
    try:
        edit = _work_edit(form.get("act", ""), head.song)
        if edit is not None:
            studio().edit(song_id, head.revision_id, edit)
        elif head.song.task is not None:
            studio().rendering.measured_later(song_id, head.song)
    except EscaleraError as error:
        return render_template("tasks/_work.html", **_work(song_id, trouble=str(error))), error.status
    return render_template("tasks/_work.html", **_work(song_id))


def _work_edit(act: str, song: Song) -> TakeTask | DropTask | TakeHint | None:
    form = request.form
    if act == "take":
        return TakeTask(task_text(studio().tasks.get(id_in(form.get("task", ""))).task))
    if act == "drop":
        return DropTask()
    if act == "hint":
        return TakeHint(whole_number(form.get("number", ""), "number", 0))
    if act == "measure":
        return None
    raise EditError("That is nothing that can be done with a task. Load the page again.")


@blueprint.get("/songs/<int:song_id>/task/<int:section_id>.wav")
def hear_work(song_id: int, section_id: int) -> ResponseReturnValue:
    """The place of the song that evidence points to."""
    return _heard(studio().head(song_id).song, section_id)

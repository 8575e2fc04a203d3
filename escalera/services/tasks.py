"""Tasks: written, kept, handed out as files; work that is read in a process of its own, judged, listed as a class, overridden with a reason."""

from __future__ import annotations

import csv
import io
import json
import re
import zipfile
from collections.abc import Callable, Iterable
from functools import cache
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np

from escalera.cleaning import clean_line, neutral_cell, parse_json
from escalera.core.caching import Results
from escalera.core.document.fields import adapter
from escalera.core.document.song import Song
from escalera.core.document.task import Task, task_from_plain, task_to_plain
from escalera.core.energy.model import arranged
from escalera.core.reading.timeline import timeline
from escalera.core.tasks.class_list import Shared, lines_of_work, shared_lines
from escalera.core.tasks.marks import Marks, by_bar, judge, overridden, sections_to_hear
from escalera.core.tasks.task_text import need_consistent, read_task, task_of_form
from escalera.errors import EscaleraError, FormatError, InputError, NotFound, shown
from escalera.formats.project import read_project, write_project
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import loudness
from escalera.services import library
from escalera.services.reading_worker import LimitedReader
from escalera.services.rendering import MeasuredSong, Rendering
from escalera.services.task_library import task_library
from escalera.sound.schedule import RATE_HZ
from escalera.store import task_store as kept
from escalera.store.database import Database

MOST_SUBMISSIONS, MOST_FILE_BYTES, MOST_ZIP_BYTES = 500, 60_000_000, 1_000_000_000
MAX_TASK_BYTES = 1_000_000
SILENT_LUFS = -120.0
SUFFIXES = (".json", ".mid", ".midi", ".zip", ".wav", ".txt", ".csv", ".tsv")
Tell = Callable[[float], None]
Wanted = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class KeptTask:
    """A task with its id; 0 for one of the library."""

    id: int
    task: Task


@dataclass(frozen=True, slots=True)
class Submission:
    """A piece of work that was judged: its name, marks, and why it could not be read where it could not."""

    id: int
    name: str
    marks: Marks | None
    trouble: str


class Tasks:
    """Keeps tasks and what was judged by them."""

    def __init__(self, database: Database, rendering: Rendering):
        self._database, self._rendering, self._reader = database, rendering, LimitedReader()
        self._shared: Results[list[Shared]] = Results(20)

    def close(self) -> None:
        self._reader.close()

    # tasks -----------------------------------------------------------------------------------------------------

    def all(self) -> list[KeptTask]:
        with self._database.read() as session:
            rows = kept.all_tasks(session)
        return [KeptTask(row.id, _task(row.document)) for row in rows]

    def get(self, task_id: int) -> KeptTask:
        """A task. Raises NotFound."""
        with self._database.read() as session:
            return KeptTask(task_id, _task(kept.task_row(session, task_id).document))

    def add(self, task: Task) -> int:
        """Keep a task; its id. Raises EditError where its criteria contradict each other."""
        need_consistent(task.criteria)
        with self._database.write() as session:
            return kept.add_task(session, task.title, task_text(task))

    def write(self, text: str, title: str = "") -> int:
        """A task from what people say; its id. Raises EditError."""
        return self.add(read_task(text, title).task)

    def of_song(self, song: Song) -> int:
        """A task out of a song's form; its id."""
        return self.add(task_of_form(song, [s.value for s in arranged(song).sections]))

    def read_in(self, data: bytes) -> int:
        """A task from a file; its id. Raises FormatError, EditError."""
        return self.add(read_task_file(data))

    def of_library(self, number: int) -> int:
        """A task of the library, kept like one's own; its id. Raises NotFound."""
        if not 0 <= number < len(task_library()):
            raise NotFound("There is no such task in the library.")
        task = task_library()[number].task
        known = next((k.id for k in self.all() if k.task == task), None)
        return known if known is not None else self.add(task)

    def change(self, task_id: int, task: Task) -> None:
        """Put a task in the place of another. Raises EditError, NotFound."""
        need_consistent(task.criteria)
        with self._database.write() as session:
            row = kept.task_row(session, task_id)
            row.title, row.document = task.title, task_text(task)

    def forget(self, task_id: int) -> str:
        with self._database.write() as session:
            row = kept.task_row(session, task_id)
            title = row.title
            session.delete(row)
        return f"{title} forgotten, with what was judged by it."

    # judging ---------------------------------------------------------------------------------------------------

    def marks(self, task: Task, song: Song) -> Marks:
        """Marks of a song; the sections that the task asks about as they sound are rendered."""
        ids = sections_to_hear(task, song)
        return judge(task, song, self._loudness(song, ids) if ids else None)

    def marks_now(self, task: Task, song: Song) -> Marks:
        """Marks of a song as far as they are known without waiting."""
        known = self._rendering.measured_now(song) if sections_to_hear(task, song) else None
        return judge(task, song, loudness_of(known) if known is not None else None)

    def _loudness(self, song: Song, ids: list[int]) -> dict[int, float]:
        """Loudness of sections by their ids, from their sound up to their last bar line."""
        line = timeline(song)
        keys, starts = self._rendering.renderer.chunk_keys(song, line), line.samples(RATE_HZ)

        def level(section_id: int) -> float:
            index = song.index_of(section_id)
            audio = self._rendering.renderer.chunk(song, line, index, keys[index])
            found = float(loudness(audio[:, : starts[index + 1] - starts[index]], RATE_HZ).integrated_lufs)
            return found if np.isfinite(found) else SILENT_LUFS

        return {i: level(i) for i in ids}

    def read_work(self, path: Path, name: str) -> Song:
        """A submission, read in a process with limits. Raises FormatError, InputError."""
        if path.stat().st_size > MOST_FILE_BYTES:
            raise FormatError(
                f"{shown(name)} has {path.stat().st_size / 1e6:,.0f} MB; at most {MOST_FILE_BYTES / 1e6:,.0f} MB are read."
            )
        if not path.stat().st_size:
            raise FormatError(f"{shown(name)} is empty.")
        return read_project(self._reader.read_submission(path, name).encode())

    def judge_files(self, task_id: int, files: Iterable[tuple[str, Path]], tell: Tell, wanted: Wanted) -> int:
        """Judge files and keep what came of it, one after the other; how many were judged."""
        task, rows = self.get(task_id).task, list(files)
        for number, (name, path) in enumerate(rows):
            if not wanted():
                return number
            marks, trouble, project = "", "", b""
            try:
                song = self.read_work(path, name)
                marks, project = marks_text(self.marks(task, song)), write_project(song)
            except EscaleraError as error:
                trouble = str(error)
            with self._database.write() as session:
                kept.keep_submission(session, task_id, name, marks, trouble, project)
            tell((number + 1) / len(rows))
        return len(rows)

    def submissions(self, task_id: int) -> list[Submission]:
        """What was judged by a task. Raises NotFound."""
        with self._database.read() as session:
            kept.task_row(session, task_id)
            return [_submission(row.id, row.name, row.marks, row.trouble) for row in kept.submissions(session, task_id)]

    def submission(self, task_id: int, submission_id: int) -> tuple[Submission, Song | None]:
        """A submission with its song, where it could be read. Raises NotFound."""
        with self._database.read() as session:
            row = kept.submission(session, task_id, submission_id)
            found, project = _submission(row.id, row.name, row.marks, row.trouble), row.project
        return found, read_project(project) if project else None

    def override(self, task_id: int, submission_id: int, number: int, points: float | None, reason: str) -> None:
        """Give other points for a criterion, with the reason; None takes them back. Raises EditError, NotFound."""
        with self._database.write() as session:
            row = kept.submission(session, task_id, submission_id)
            marks = _submission(row.id, row.name, row.marks, row.trouble).marks
            if marks is None:
                raise InputError(f"{row.name} could not be read, so there are no points to change.")
            row.marks = marks_text(overridden(marks, number, points, clean_line(reason, 300)))

    def forget_class(self, task_id: int) -> str:
        with self._database.write() as session:
            kept.task_row(session, task_id)
            count = kept.forget_submissions(session, task_id)
        return f"{count} submissions forgotten; their files are where they were."

    def shared(self, task_id: int) -> list[Shared]:
        """Pairs of submissions with lines in common."""
        with self._database.read() as session:
            there = tuple((row.id, row.judged_at) for row in kept.submissions(session, task_id))
        return self._shared.get_or_make((task_id, there), lambda: self._compared(task_id))

    def _compared(self, task_id: int) -> list[Shared]:
        with self._database.read() as session:
            rows = [(row.name, row.project) for row in kept.submissions(session, task_id) if row.project]
        return shared_lines({name: lines_of_work(read_project(project), given_lines()) for name, project in rows})

    def table(self, task_id: int) -> str:
        """The class as a table."""
        out = io.StringIO()
        rows = csv.writer(out)
        found, task = self.submissions(task_id), self.get(task_id).task
        rows.writerow(["file", "points", "of", *(f"{i}" for i, _ in enumerate(task.criteria, 1)), "trouble"])
        for s in found:
            marks = s.marks
            points = ["", ""] if marks is None else [f"{marks.points:g}", f"{marks.of:g}"]
            own = [f"{m.counts:.1f}" for m in marks.rows] if marks is not None else [""] * len(task.criteria)
            rows.writerow([neutral_cell(s.name), *points, *own, neutral_cell(s.trouble)])
        return out.getvalue()


@cache
def given_lines() -> frozenset[str]:
    """Lines that come with the program: everybody may have them."""
    return frozenset(p.pattern.content_hash for p in library.patterns().values())


def loudness_of(measured: MeasuredSong) -> dict[int, float]:
    """Loudness of every section by its id, from its bars."""
    return {s.span.section.id: float(10 * np.log10(np.mean(10 ** (s.lufs / 10)) + 1e-12)) for s in measured.sections}


def task_text(task: Task) -> str:
    """A task as a file."""
    return json.dumps(task_to_plain(task), indent=1, ensure_ascii=False) + "\n"


def _task(document: str) -> Task:
    return task_from_plain(json.loads(document))


def read_task_file(data: bytes) -> Task:
    """A task from a file: one that was written out, or its text. Raises FormatError, EditError."""
    if len(data) > MAX_TASK_BYTES:
        raise FormatError(f"The file has {len(data):,} bytes; a task has at most {MAX_TASK_BYTES:,}.")
    if not data.lstrip().startswith(b"{"):
        return read_task(data.decode("utf-8", "replace")).task
    try:
        return task_from_plain(parse_json(data))
    except ValueError:
        raise FormatError("The task cannot be read as JSON.") from None


def marks_text(marks: Marks) -> str:
    """Marks as JSON, to be kept."""
    return adapter(Marks).dump_json(marks).decode()


def _submission(id: int, name: str, marks: str, trouble: str) -> Submission:
    return Submission(id, name, adapter(Marks).validate_json(marks) if marks else None, trouble)


def marks_report(name: str, marks: Marks) -> dict[str, Any]:
    """Marks as plain data, for the command line."""
    return {
        "file": name, "points": marks.points, "of": marks.of,
        "criteria": [
            {"criterion": m.said, "met": m.met, "value": m.value, "limit": m.limit, "points": round(m.counts, 2), "of": round(m.of, 2),
             "evidence": [{"said": e.said, "first_bar": e.first_bar, "last_bar": e.last_bar} for e in m.evidence], "mend": m.mend}
            for m in marks.rows
        ],
        "by_bar": [{"first_bar": c.first_bar, "last_bar": c.last_bar, "said": c.said} for c in by_bar(marks)],
    }  # fmt: skip


# files that were handed in ----------------------------------------------------------------------------------------


def plain_file_name(name: str) -> str:
    """The name of a file as text, without any folder."""
    return clean_line(PurePosixPath(name.replace("\\", "/")).name, 200) or "submission"


def unpack_submissions(path: Path, folder: Path) -> list[tuple[str, Path]]:
    """Files of a zip, each as its name and where it was put; folders and hidden files are left out. Raises FormatError for what holds
    too much, or paths that lead outside."""
    try:
        with zipfile.ZipFile(path) as archive:
            return _unpacked(archive, folder)
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError) as error:
        raise FormatError(f"The zip cannot be read ({shown(error, 60)}). Pack it again.") from error


def _unpacked(archive: zipfile.ZipFile, folder: Path) -> list[tuple[str, Path]]:
    entries = [e for e in archive.infolist() if not e.is_dir()]
    outside = next(
        (
            e.filename
            for e in entries
            if e.filename.startswith("/") or ".." in PurePosixPath(e.filename.replace("\\", "/")).parts
        ),
        "",
    )
    if outside:
        raise FormatError(
            f"The zip has a path that leads outside of it ({shown(outside)}). Pack it again without folders."
        )
    entries = [e for e in entries if _wanted_file(e.filename)]
    need_few(len(entries))
    total = sum(e.file_size for e in entries)
    if total > MOST_ZIP_BYTES or any(e.file_size > MOST_FILE_BYTES for e in entries):
        raise FormatError(
            f"The zip holds {total / 1e6:,.0f} MB; {MOST_ZIP_BYTES / 1e6:,.0f} MB in all and {MOST_FILE_BYTES / 1e6:,.0f} MB a file are read."
        )
    found, names = [], set[str]()
    for number, entry in enumerate(entries):
        name = free_name(plain_file_name(entry.filename), names)
        target = folder / f"{number}{PurePosixPath(name).suffix.lower()[:6]}"
        with archive.open(entry) as source:
            data = source.read(MOST_FILE_BYTES + 1)
        if len(data) > MOST_FILE_BYTES:
            raise FormatError(f"{shown(name)} is larger than the zip says. Pack it again.")
        target.write_bytes(data)
        found.append((name, target))
    return found


def _wanted_file(name: str) -> bool:
    parts = PurePosixPath(name.replace("\\", "/")).parts
    return not any(p.startswith((".", "__MACOSX")) for p in parts) and PurePosixPath(name).suffix.lower() in SUFFIXES


def need_few(count: int) -> None:
    """Raise InputError for no submissions, or more than are judged in one go."""
    if not count:
        raise InputError(
            f"There is nothing in it that can be judged. Hand in files of these kinds: {', '.join(SUFFIXES)}."
        )
    if count > MOST_SUBMISSIONS:
        raise InputError(
            f"{count} submissions were handed in; at most {MOST_SUBMISSIONS} are judged in one go. Take them in parts."
        )


def free_name(name: str, names: set[str]) -> str:
    """The name, or with a number behind it where another file has it already; it is then taken."""
    stem, suffix = re.sub(r"(\.[^.]*)?$", "", name), PurePosixPath(name).suffix
    free, number = name, 2
    while free.casefold() in names:
        free, number = f"{stem} ({number}){suffix}", number + 1
    names.add(free.casefold())
    return free


def is_project_bundle(path: Path) -> bool:
    """Whether a zip is one project with its recordings, rather than a folder of submissions."""
    try:
        with zipfile.ZipFile(path) as archive:
            return "project.json" in archive.namelist()
    except (zipfile.BadZipFile, OSError):
        return False

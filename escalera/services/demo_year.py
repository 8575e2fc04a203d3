"""A made-up year beside the demo songs: songs at every stage, dates, people, sets and steps that were timed; days count from today."""

from __future__ import annotations

import io
import json
import random
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any
from zipfile import ZipFile

from sqlalchemy.orm import Session

from escalera.core.document.song import Song
from escalera.core.drills.question import DRILLS
from escalera.core.drills.staircase import Answered, next_size, share_right
from escalera.core.edits.edit import Edit
from escalera.core.feedback.remark_edits import TakeDownFeedback
from escalera.core.logbook.work_sessions import work_sessions
from escalera.core.planning.open_steps import STEP_KINDS
from escalera.core.planning.people_edits import AddPerson, SetPerson, SetShares, SignShare
from escalera.core.planning.work_edits import SetArchived, SetDue, SetRelease, SetStage
from escalera.core.sets import song_set as acts
from escalera.core.tasks.marks import judge
from escalera.formats.project import read_project, write_project
from escalera.services import library
from escalera.services.demo import is_there
from escalera.services.drills import Item
from escalera.services.new_song import new_song
from escalera.services.studio import Studio
from escalera.services.task_library import task_library
from escalera.services.tasks import marks_text
from escalera.store.drill_models import DrillAnswerRow, DrillSessionRow
from escalera.store.logbook_store import keep_own_line, steps_done
from escalera.store.models import Base, RevisionRow, SongRow
from escalera.store.planning_models import OwnPromptRow, SongSetRow, TimedStepRow
from escalera.store.task_models import SubmissionRow
from escalera.store.task_store import keep_submission

YEAR_FILE = "made_up_year.json"
SONGS_FILE = "made_up_songs.zip"  # written by tools/write_demo_year.py
Row = dict[str, Any]


def seed_year(studio: Studio) -> int:
    """Put the year on the shelf; how many songs were put there. What an interrupted call left there already is not put there again."""
    year = library.data(YEAR_FILE)
    with ZipFile(io.BytesIO(library.file(SONGS_FILE))) as songs:
        ids = {row["title"]: _song(studio, row, songs) for row in year["songs"] if not is_there(studio, row["title"])}
    count = len(ids)
    ids |= {card.title: card.id for card in studio.cards() if card.title not in ids}
    if _none(studio, TimedStepRow):
        _timed(studio, year["timed"], list(ids.values()))
        _lines(studio, year["lines"])
    if _none(studio, SongSetRow):
        for row in year["sets"]:
            _set(studio, row, ids)
    if _none(studio, OwnPromptRow):
        name, words, rules = year["prompt"]
        studio.planning.keep_prompt(name, words, [tuple(rule) for rule in rules])
    if _none(studio, SubmissionRow):
        _class(studio)
    if _none(studio, DrillSessionRow):
        _drilled(studio)
    return count


def _none(studio: Studio, table: type[Base]) -> bool:
    """Whether a table is empty still."""
    with studio.database.read() as session:
        return session.query(table).first() is None


def made_song(row: Row) -> Song:
    """A song of the year laid out anew; it takes about a second, so that all of them stand ready in SONGS_FILE."""
    return new_song(row["title"], form=row["form"], school=row["school"], start=row["start"], key=row.get("key", ""))


def file_of(row: Row) -> str:
    """The name of a song's project in SONGS_FILE."""
    return f"{library.slug(row['title'])}.json"


def _ago(days: float) -> datetime:
    """A moment in the morning so many days ago, as the store keeps it."""
    return datetime.now(UTC).replace(tzinfo=None, hour=9, minute=5, second=0, microsecond=0) - timedelta(days=days)


def _day(days: float) -> str:
    return str(_ago(days).date())


def _song(studio: Studio, row: Row, songs: ZipFile) -> int:
    """A song laid out from a starting loop, and what happened to it, each step on its day."""
    song = read_project(songs.read(file_of(row)))
    if any(stage not in ("left",) for stage, _, _ in row["marks"]):  # what was worked on has sounds of its own
        song = replace(song, layers=tuple(replace(x, stand_in=False) for x in song.layers))
    song_id = studio.add_song(song, "New song")
    days = [row["began"]]
    for after, edit in _events(row):
        song = studio.head(song_id).song
        made = edit(song)
        studio.edit(song_id, studio.head(song_id).revision_id, made)
        days.append(after)
    with studio.database.write() as session:
        _backdate(session, studio, song_id, days)
    return song_id


def _events(row: Row) -> Iterator[tuple[float, Any]]:
    """Days ago, and what makes the edit of a song as it is then."""
    for stage, days, reason in row["marks"]:
        yield days, lambda song, s=stage, d=days, r=reason: SetStage(s, _day(d), r)
    last = row["marks"][-1][1] if row["marks"] else row["began"]
    for name, roles, sent, owed, *_ in row.get("people", ()):
        yield last, lambda song, n=name, r=roles: AddPerson(n, r)
        yield last, lambda song, s=sent, o=owed: SetPerson(song.people[-1].id, sent=s, owed=o)
    shares = [(p[0], p[4], p[5]) for p in row.get("people", ()) if p[4]]
    if shares:
        yield last, lambda song: SetShares("\n".join(f"{name} {share}" for name, share, _ in shares))
    for name, _, signed in shares:
        if signed:
            yield last, lambda song, n=name, s=signed: _signed(song, n, s, _day(last))
    if "release" in row:
        yield last, lambda song: SetRelease(_day(-row["release"]))
    for what, days, stage in row.get("due", ()):
        yield last, lambda song, w=what, d=days, s=stage: SetDue(w, _day(-d), s)
    if "feedback" in row:
        yield last - 2, lambda song: TakeDownFeedback(row["feedback"])
    if row.get("archived"):
        yield last - 1, lambda song: SetArchived(True)


def _signed(song: Song, name: str, note: str, on: str) -> Edit:
    return SignShare(next(p.id for p in song.people if p.name == name), note, on)


def _backdate(session: Session, studio: Studio, song_id: int, days: list[float]) -> None:
    """Put the steps of a song to their days, some minutes apart where they share one."""
    revisions = session.query(RevisionRow).filter_by(song_id=song_id).order_by(RevisionRow.id).all()
    last = _ago(days[0])
    for row, ago in zip(revisions, days):
        last = max(_ago(ago), last + timedelta(minutes=4))
        row.created_at = last
    song = session.get(SongRow, song_id)
    assert song is not None
    song.created_at, song.touched_at = _ago(days[0]), last


def _timed(studio: Studio, rows: list[list[Any]], ids: list[int]) -> None:
    with studio.database.write() as session:
        for place, (kind, minutes, outcome, ago) in enumerate(sorted(rows, key=lambda r: -r[3])):
            began = _ago(ago)
            session.add(
                TimedStepRow(
                    song_id=ids[place % len(ids)],
                    kind=kind,
                    said=STEP_KINDS[kind].label,
                    planned_min=30,
                    began_at=began,
                    ended_at=began + timedelta(minutes=minutes),
                    minutes=float(minutes),
                    outcome=outcome,
                )
            )


def _lines(studio: Studio, rows: list[list[Any]]) -> None:
    """Lines of one's own for the sessions nearest to their days."""
    with studio.database.write() as session:
        steps, _ = steps_done(session)
        sessions = work_sessions(sorted(steps, key=lambda s: s.at))
        for ago, text in rows:
            nearest = min(sessions, key=lambda s: abs(s.began - _ago(ago)))
            keep_own_line(session, nearest.began, text)


def _set(studio: Studio, row: Row, ids: dict[str, int]) -> None:
    set_id = studio.sets.make(row["name"], row["kind"])
    for title in row["songs"]:
        ids.setdefault(
            title, max(ids.values()) + 1_000_000
        )  # of the demo songs one may be missing: its place stays empty
        studio.sets.change(set_id, lambda s, t=title: acts.with_song(s, ids[t], t))  # type: ignore[misc]
    for title, who in row["proposed"]:
        studio.sets.change(set_id, lambda s, t=title, w=who: acts.with_song(s, ids[t], t, w, proposed=True))  # type: ignore[misc]
    studio.sets.change(set_id, lambda s: acts.with_settings(s, s.name, s.kind, float(row["wanted_min"])))
    if row["kept"]:
        name, who, reason, order = row["kept"]
        studio.sets.change(set_id, lambda s: acts.with_kept_order(s, "As recorded", "Me", "in the order they came"))
        there = [e.id for e in studio.sets.get(set_id).document.running]
        studio.sets.change(set_id, lambda s: acts.in_order(s, [there[i] for i in order], "Mira tried another order"))
        studio.sets.change(set_id, lambda s: acts.with_kept_order(s, name, who, reason))


def _class(studio: Studio) -> None:
    """A task of the course with three submissions: the two examples, and a song of the year."""
    task_id = studio.tasks.of_library(len(task_library()) - 1)
    course = task_library()[-1]
    works = {"hand-in 1.json": course.passes(), "hand-in 2.json": course.fails()}
    with studio.database.write() as session:
        for name, song in works.items():
            kept = (marks_text(judge(course.task, song)), "", write_project(song))
            keep_submission(session, task_id, name, *kept)
        keep_submission(session, task_id, "hand-in 3.mid", "", "hand-in 3.mid is empty.", b"")


def _drilled(studio: Studio) -> None:
    """Answers of some weeks, by a learner who became better."""
    chance = random.Random(7)
    with studio.database.write() as session:
        for key, best in (("louder", 0.9), ("bass out of tune", 14.0), ("swing or straight", 0.03)):
            row = DrillSessionRow(kinds=json.dumps([key]), began_at=_ago(20))
            session.add(row)
            session.flush()
            answers: list[Answered] = []
            for number in range(60):
                size, known = next_size(DRILLS[key], answers), best * (2.2 - 1.2 * number / 60)
                right = chance.random() < share_right(size, known, DRILLS[key].choices)
                answers.append(Answered(size, right))
                item = Item(key, number, size).text
                at = _ago(20 - number // 3)
                session.add(
                    DrillAnswerRow(
                        session_id=row.id, number=number, kind=key, item=item, size=size, right=right, answered_at=at
                    )
                )

"""Edits of where the work stands: stages, the release, due dates, archived or not."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from escalera.core.document.days import day_or_none, read_day
from escalera.core.document.limits import MAX_DUE, MAX_NAME, MAX_REASON, MAX_STAGE_MARKS
from escalera.core.document.names import clean_name, clean_words
from escalera.core.document.song import Song
from escalera.core.document.work_state import LEFT, STAGES, DueDate, StageMark, WorkState
from escalera.core.edits.edit import edit, one_of
from escalera.core.planning.due_dates import USUAL_GAPS, due_from, read_gaps
from escalera.core.prompts.weekly import own_prompt
from escalera.errors import EditError, shown


def _with(song: Song, work: WorkState) -> Song:
    return replace(song, work=work)


@edit("set_stage", "song")
class SetStage:
    """Say which stage the song has reached, and on which day; a song that is left needs a reason."""

    stage: str
    on: str
    reason: str = ""

    def apply(self, song: Song) -> Song:
        one_of(self.stage, STAGES, "stage")
        day, marks = read_day(self.on), song.work.marks
        reason = clean_words(self.reason, "reason", MAX_REASON)
        if self.stage == LEFT and not reason:
            raise EditError("Say why it is left: in a year one wants to know.")
        if marks and marks[-1].stage == self.stage:
            raise EditError(f"It is {self.stage} already, since {marks[-1].on}. Choose another stage.")
        if marks and day < marks[-1].on:
            raise EditError(
                f"{day} lies before {marks[-1].on}, when it became {marks[-1].stage}. Write that day or a later one."
            )
        if len(marks) == MAX_STAGE_MARKS:
            raise EditError(f"{MAX_STAGE_MARKS} stages are noted, and no more fit. Take some back.")
        due = tuple(replace(d, done=True) if d.stage == self.stage else d for d in song.work.due)
        return _with(song, replace(song.work, marks=(*marks, StageMark(self.stage, day, reason)), due=due))

    def summary(self, song: Song) -> str:
        return f"Stage: {self.stage}{f', {self.reason}' if self.reason else ''}"[:200]


@edit("take_back_stage", "song")
class TakeBackStage:
    """Take the last stage back that was noted."""

    def apply(self, song: Song) -> Song:
        if not song.work.marks:
            raise EditError("No stage was noted yet: the song is a demo.")
        return _with(song, replace(song.work, marks=song.work.marks[:-1]))

    def summary(self, song: Song) -> str:
        return f"Stage taken back: {song.work.marks[-1].stage}" if song.work.marks else "Stage taken back"


@edit("set_release", "song")
class SetRelease:
    """Set the day of the release; what is due before follows from a template, a row each of what, days before and stage.

    No day takes the release away, and with it the dates that followed from it.
    """

    on: str
    gaps: list[list[str]] | None = None

    def apply(self, song: Song) -> Song:
        day = day_or_none(self.on)
        if day is None:
            own = tuple(d for d in song.work.due if d.days_before < 0)
            return _with(song, replace(song.work, release_on=None, due=own))
        rows = USUAL_GAPS if self.gaps is None else read_gaps([(str(w), str(d), str(s)) for w, d, s in self.gaps])
        due = due_from(day, rows, song.work)
        if len(due) > MAX_DUE:
            raise EditError(f"{len(due)} dates would be due; {MAX_DUE} fit. Shorten the template.")
        return _with(song, replace(song.work, release_on=day, due=due))

    def summary(self, song: Song) -> str:
        return f"Release: {self.on}" if self.on.strip() else "Release: no day"


def due_of(song: Song, what: str) -> DueDate:
    """The due date of this name. EditError where there is none."""
    found = next((d for d in song.work.due if d.what.casefold() == what.strip().casefold()), None)
    if found is None:
        raise EditError(f"“{shown(what)}” is not among the due dates any more. The list shows what is.")
    return found


@edit("set_due", "song")
class SetDue:
    """Set the day of a due date, which then has a day of its own; a new name makes a new one, no day takes it out."""

    what: str
    on: str
    stage: str = ""
    today: str = ""

    def apply(self, song: Song) -> Song:
        what = clean_name(self.what, "due date", MAX_NAME)
        day, stage = day_or_none(self.on), one_of(self.stage, ("", *STAGES), "stage")
        known = next((d for d in song.work.due if d.what.casefold() == what.casefold()), None)
        rest = [d for d in song.work.due if d is not known]
        if day is None:
            due_of(song, what)
        else:
            self._need_future(day)
            if len(rest) == MAX_DUE:
                raise EditError(f"{MAX_DUE} dates are due, and no more fit. Take one out.")
            made = DueDate(what, day, stage or (known.stage if known else ""), -1, bool(known and known.done))
            rest.append(made)
        return _with(song, replace(song.work, due=tuple(sorted(rest, key=lambda d: d.on))))

    def _need_future(self, day: date) -> None:
        today = day_or_none(self.today)
        if today is not None and day < today:
            raise EditError(f"{day} has passed: today is {today}. Choose a day that is still to come.")

    def summary(self, song: Song) -> str:
        return f"Due: {self.what} {self.on}" if self.on.strip() else f"No longer due: {self.what}"


@edit("set_due_done", "song")
class SetDueDone:
    """Tick a due date off, or open it again."""

    what: str
    done: bool = True

    def apply(self, song: Song) -> Song:
        due = due_of(song, self.what)
        rows = tuple(replace(d, done=self.done) if d is due else d for d in song.work.due)
        return _with(song, replace(song.work, due=rows))

    def summary(self, song: Song) -> str:
        return f"{self.what}: {'done' if self.done else 'open again'}"


@edit("set_archived", "song")
class SetArchived:
    """Archive the song, so that it is kept but neither on the board nor in what to do next; or take it out again."""

    archived: bool = True

    def apply(self, song: Song) -> Song:
        return _with(song, replace(song.work, archived=self.archived))

    def summary(self, song: Song) -> str:
        return "Archived" if self.archived else "Out of the archive"


@edit("set_prompt", "song")
class SetPrompt:
    """Give the song the rules of a prompt, each with its value; none take them away."""

    rules: list[list[str]]

    def apply(self, song: Song) -> Song:
        rows = [(str(key), str(value)) for key, value in self.rules]
        return replace(song, prompt=own_prompt("", rows).rules if rows else ())

    def summary(self, song: Song) -> str:
        return f"Prompt: {', '.join(key for key, _ in self.rules)}" if self.rules else "Prompt: none"

"""Edits of the task that a song works on: taken up, laid down, a hint asked for."""

from __future__ import annotations

import json
from dataclasses import replace

from escalera.core.document.song import Song
from escalera.core.document.task import Task, task_from_plain
from escalera.core.edits.edit import edit
from escalera.core.tasks.task_text import read_task
from escalera.errors import EditError


@edit("take_task", "song")
class TakeTask:
    """Work on a task: its text, or a task as a file has it."""

    text: str

    def apply(self, song: Song) -> Song:
        return replace(song, task=self._task(), hints=())

    def _task(self) -> Task:
        if not self.text.lstrip().startswith("{"):
            return read_task(self.text).task
        try:
            return task_from_plain(json.loads(self.text))
        except ValueError:
            raise EditError("The task cannot be read. Take it from the list again.") from None

    def summary(self, song: Song) -> str:
        return f"Task: {self._task().title}"


@edit("drop_task", "song")
class DropTask:
    """Lay the task down."""

    def apply(self, song: Song) -> Song:
        if song.task is None:
            raise EditError("The song works on no task.")
        return replace(song, task=None, hints=())

    def summary(self, song: Song) -> str:
        return f"Task laid down: {song.task.title}" if song.task else "Task laid down"


@edit("take_hint", "song")
class TakeHint:
    """Ask what would mend a criterion; it costs nothing, and is written down."""

    number: int

    def apply(self, song: Song) -> Song:
        if song.task is None or not 0 <= self.number < len(song.task.criteria):
            raise EditError("That criterion is not in the task.")
        return song if self.number in song.hints else replace(song, hints=(*song.hints, self.number))

    def summary(self, song: Song) -> str:
        return f"Hint for criterion {self.number + 1}"

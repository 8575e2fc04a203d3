"""Tasks and drills: marks of one submission with and without sound, a class of thirty, the next question of a drill."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from benchmarks.table import SOUND, row
from escalera.core.edits.song_edits import SetTempo
from escalera.core.tasks.marks import judge
from escalera.core.tasks.task_text import read_task
from escalera.formats.project import write_project
from escalera.services.demo import demo_songs
from escalera.services.studio import Studio
from escalera.services.task_library import task_library

CLASS, QUESTIONS = 30, 12
KINDS = ["louder", "bass out of tune", "layer", "higher section", "what carried the join", "inversion"]


def tasks() -> None:
    """Rows of the table."""
    songs, course = demo_songs(), task_library()[-1].task
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder), max_pages=0, cache_mb=200)
        begun = time.perf_counter()
        judge(course, SetTempo(101.0).apply(songs[0]))
        row("criteria of one submission, from its document", time.perf_counter() - begun, 2.0, "s")
        begun = time.perf_counter()
        studio.tasks.marks(
            read_task("Chorus 3 is 3 LU louder than Verse 1. Chorus 1 is 2 LU louder than Break.").task, songs[0]
        )
        row("criteria on its sound, nothing rendered yet", time.perf_counter() - begun, 5.0, "s", load=SOUND)
        files = []
        for number in range(CLASS):
            path = Path(folder) / f"{number}.json"
            path.write_bytes(write_project(SetTempo(80.0 + number).apply(songs[number % 2])))
            files.append((path.name, path))
        task_id, begun = studio.tasks.of_library(9), time.perf_counter()
        studio.tasks.judge_files(task_id, files, lambda share: None, lambda: True)
        row(f"a class of {CLASS} project files", time.perf_counter() - begun, 120.0, "s")
        studio.add_song(songs[0], "Made")
        session_id, waits = studio.drills.begin(KINDS), []
        for number in range(QUESTIONS):
            time.sleep(1.5)  # about as long as the shortest thought
            begun = time.perf_counter()
            posed = studio.drills.pose(session_id)
            assert posed is not None
            if posed.question.heard:
                studio.drills.sound(posed.item, 0)
            waits.append(1000 * (time.perf_counter() - begun))
            studio.drills.answer(session_id, number, posed.item, "0")
        row("next question of a drill with its sound, the slowest of twelve", max(waits[1:]), 200.0, "ms", load=SOUND)
        studio.close()

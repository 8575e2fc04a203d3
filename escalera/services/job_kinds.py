"""The kinds of long work, a function each: from a job and a folder to a file in it."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import TYPE_CHECKING

from escalera.core.handing.file_names import plain_name
from escalera.services.exporting import Options, export
from escalera.services.finished_tracks import add_finished_track, add_stem_kit
from escalera.services.jobs import Result, Tell, Wanted, Work
from escalera.services.packing import PackOptions, write_pack
from escalera.services.returned import returned_list
from escalera.services.stand_in_mix import add_stand_in
from escalera.services.stems import bounce_of_stems, bring_in_stems
from escalera.services.stems_heard import heard_stems, stems_text
from escalera.services.takes import keep_take
from escalera.services.taking_back import chosen_rows, read_found, take_back
from escalera.store.job_store import Job

if TYPE_CHECKING:
    from escalera.services.studio import Studio

BRING_IN, OWN_SAMPLES, ADOPT, BOUNCE = "bring in", "own samples", "samples of a project", "bounce"
MADE_UP = "made-up mix"
PACK, HEARD, RETURNED, TAKEN = "pack", "stems heard", "returned", "taken"
STUDY, MADE_UP_TRACK, STEMS = "study", "made-up track", "stems"
LONG_TAKE = "long take"
SONG_FACTS = "song facts"
JUDGED = "judged"
MORE_DEMO = "more demo songs"


def job_kinds(studio: Studio) -> dict[str, Work]:
    """What workers of a studio can do."""

    def exported(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        song = studio.state(job.song_id, job.revision_id)
        values = job.options
        options = Options(bool(values["stems"]), bool(values["wet"]), int(values["bits"]), None, tell, wanted)
        path, mimetype = export(song, studio.rendering, str(values["format"]), options, folder)
        return Result(path, mimetype)

    def brought_in(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        return _told(folder, f"{studio.arrivals.read_all(tell, wanted)} files were read.")

    def own_made(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        return _told(folder, f"{studio.samples.add_own(tell, wanted)} samples were made.")

    def adopted(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        song = studio.state(job.song_id, job.revision_id)
        return _told(folder, f"{studio.samples.adopt(song.samples, wanted)} samples of the project are in the library.")

    def take_kept(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        return _told(folder, keep_take(studio, str(job.options["token"])).said)

    return {
        "export": exported,
        LONG_TAKE: take_kept,
        BRING_IN: brought_in,
        OWN_SAMPLES: own_made,
        ADOPT: adopted,
        **_of_planning(studio),
        **_of_handing_over(studio),
        **_of_music_elsewhere(studio),
    }


def _of_planning(studio: Studio) -> dict[str, Work]:
    """Work on the shelf and on lists over songs, and on work that was handed in."""

    def songs_read(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        return _told(folder, f"{studio.index.read_all(tell, wanted)} songs were read.")

    def class_judged(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        task_id, came = int(job.options["task"]), studio.submitted_folder(str(job.options["token"]))
        files = [(str(name), came / str(file)) for name, file in job.options["files"]]
        try:
            count = studio.tasks.judge_files(task_id, files, tell, wanted)
        finally:
            shutil.rmtree(came, ignore_errors=True)
        return _told(folder, f"{count} submissions were judged.")

    def demo_made(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        from escalera.services.demo_shelf import put_more  # it opens songs of the studio that this module is part of

        put_more(studio, bool(job.options["year"]), wanted)
        return _told(folder, "The other demo songs are on the shelf.")

    return {JUDGED: class_judged, SONG_FACTS: songs_read, MORE_DEMO: demo_made}


def _of_handing_over(studio: Studio) -> dict[str, Work]:
    """Work on packs, and on what came back."""

    def packed(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        song, values = studio.state(job.song_id, job.revision_id), job.options
        options = PackOptions(
            tuple(values["parts"]),
            str(values["scheme"]),
            str(values["receiver"]),
            str(values.get("kind", "wav")),
            tell,
            wanted,
        )
        path = folder / f"{plain_name(song.title)}-pack.zip"
        write_pack(song, studio.rendering, options, path)
        return Result(path, "application/zip")

    def heard(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        song = studio.state(job.song_id, job.revision_id)
        return _told(folder, stems_text(heard_stems(song, studio.rendering, tell, wanted)))

    def looked_at(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        came, song = studio.returned_folder(str(job.options["token"])), studio.state(job.song_id, job.revision_id)
        found = returned_list(song, studio.rendering, [came], studio.earlier_states(job.song_id), tell, wanted)
        return _told(folder, json.dumps(found.plain(), ensure_ascii=False))

    def taken(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        looked = studio.jobs.get(str(job.options["looked"]))
        rows = chosen_rows(read_found(studio.jobs.path(looked)), job.options["ways"])
        came = studio.returned_folder(str(looked.options["token"]))
        return _told(folder, take_back(studio, job.song_id, came, rows, str(job.options["who"])))

    return {PACK: packed, HEARD: heard, RETURNED: looked_at, TAKEN: taken}


def _of_music_elsewhere(studio: Studio) -> dict[str, Work]:
    """Work on mixes and tracks that were made elsewhere."""

    def bounced(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        song = studio.state(job.song_id, job.revision_id)
        studio.bounces.read(int(job.options["bounce"]), song, tell, wanted)
        return _told(folder, "The bounce was read.")

    def made_up(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        add_stand_in(studio, job.song_id, studio.state(job.song_id, job.revision_id), tell, wanted)
        return _told(folder, "A made-up mix was brought in.")

    def studied(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        studio.studies.read(int(job.options["study"]), tell, wanted)
        return _told(folder, "The track was read.")

    def track_made_up(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        add_finished_track(studio, int(job.options["track"]), tell, wanted)
        return _told(folder, "A made-up track was brought in.")

    def stems_laid(job: Job, folder: Path, tell: Tell, wanted: Wanted) -> Result:
        kit = int(job.options["kit"])
        if not kit:
            return _told(folder, f"song {add_stem_kit(studio, tell, wanted)}")
        try:
            if job.song_id:
                bounce_of_stems(studio, studio.kits.named(kit), job.song_id, tell, wanted)
                return _told(folder, "The stems were added up.")
            found = bring_in_stems(studio, studio.kits.named(kit), "", float(job.options["tempo_bpm"]), tell, wanted)
        finally:
            studio.kits.clear(kit)
        return _told(folder, "\n".join((f"song {found.song_id}", *found.said)))

    return {BOUNCE: bounced, MADE_UP: made_up, STUDY: studied, MADE_UP_TRACK: track_made_up, STEMS: stems_laid}


def _told(folder: Path, words: str) -> Result:
    """What was done, as the file that a job leaves."""
    path = folder / "done.txt"
    path.write_text(words + "\n")
    return Result(path, "text/plain")

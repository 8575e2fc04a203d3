"""The studio: what a user can do with songs. Joins the store, the core and the sound; knows no web and no terminal."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from threading import Thread

from escalera.core.caching import Results
from escalera.core.document.codec import Plain
from escalera.core.document.song import Song
from escalera.core.edits import Edit
from escalera.core.edits.edit import layer_of, sound_of
from escalera.core.edits.protection import keep_protected
from escalera.core.energy.model import arranged, is_arranged
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import key_text
from escalera.errors import EditError, EscaleraError, InputError, NotFound, StoreError
from escalera.lazy_dataclasses import dataclass
from escalera.services.arrivals import BESIDE, Arrivals
from escalera.services.audition import audition_song
from escalera.services.bounces import Bounces
from escalera.services.commands import note_done, read_edits
from escalera.services.drills import Drills
from escalera.services.idea_service import Ideas
from escalera.services.job_kinds import (
    ADOPT,
    BOUNCE,
    BRING_IN,
    LONG_TAKE,
    MADE_UP,
    MADE_UP_TRACK,
    OWN_SAMPLES,
    SONG_FACTS,
    STEMS,
    STUDY,
    job_kinds,
)
from escalera.services.jobs import Jobs, Worker
from escalera.services.kits_waiting import KitsWaiting
from escalera.services.logbook import Logbook
from escalera.services.logs import LOG
from escalera.services.mouth_sounds import MouthSounds
from escalera.services.planning import Planning
from escalera.services.printing import print_edit, printed_audio
from escalera.services.pure_work import Board, SectionHelp
from escalera.services.rendering import Rendering
from escalera.services.samples import Samples
from escalera.services.song_index import SongIndex
from escalera.services.song_sets import SongSets
from escalera.services.studies import Studies
from escalera.services.sung_reading import keep_sung
from escalera.services.takes import keep_abandoned
from escalera.services.takes_waiting import TakesWaiting
from escalera.services.task_queue import TaskQueue
from escalera.services.tasks import Tasks
from escalera.services.today import Today
from escalera.services.upkeep import back_up_daily, clear_old, put_in_order
from escalera.services.versioning import Versions
from escalera.services.watching import FolderWatch
from escalera.settings import Settings, data_folder
from escalera.store import job_store, shelves
from escalera.store.database import Database
from escalera.store.job_store import Job
from escalera.store.repository import Card, Entry, Head, Repository


@dataclass(frozen=True, slots=True)
class Outcome:
    """What an edit led to: the new head, and the line that says what was done."""

    head: Head
    summary: str
    before: Song | None = None


class Studio:
    """One per process. `folder` holds the database; it is created or migrated here."""

    def __init__(self, folder: Path | None = None, max_pages: int | None = None, cache_mb: int | None = None):
        settings = Settings()
        self.folder = folder or data_folder()
        self.database = Database(self.folder / "escalera.db", settings.max_pages if max_pages is None else max_pages)
        self.repository = Repository()
        put_in_order(self.database, self.repository)
        self._pictures: Results[Plain] = Results(256)
        self.versions = Versions(self.database, self.repository)
        self.logbook = Logbook(self.database, self.repository, lambda: self.today.rest()[1])
        self.ideas = Ideas(self.database)
        self.index = SongIndex(self.database, self.repository, self.read_songs)
        self.today = Today(self.database, self.index, self.ideas.waiting)
        self.planning, self.sets = Planning(self.database, self.index), SongSets(self.database, self.index)
        self.samples = Samples(self.database, self.folder / "samples", settings.samples_mb)
        disk = (self.folder / "sound", settings.disk_cache_mb)
        cache = settings.cache_mb if cache_mb is None else cache_mb
        self.arrivals = Arrivals(
            self.folder / "arrivals", self.samples, settings.sample_upload_mb, self._arrived, self._taken
        )
        self.rendering = Rendering(cache, lambda name: printed_audio(self.database, name), disk)
        self.board = Board()
        self.rendering.renderer.help = SectionHelp(self.board)
        self.bounces = Bounces(self.database, self.rendering)
        self.studies = Studies(self.database)
        self.kits = KitsWaiting(self.folder / "kits")
        self.takes = TakesWaiting(self.folder / "takes")
        self.mouth = MouthSounds(self.folder / "mouth.json")
        self.lines_folder = self.folder / "lines"  # pitch lines of takes
        self.queue = TaskQueue(self.folder, settings.queue)
        exports = settings.exports_mb * 1_000_000
        self.jobs = Jobs(self.database, self.queue, self.folder / "exports", exports, job_kinds(self))
        self.tasks = Tasks(self.database, self.rendering)
        self.drills = Drills(self.database, self.rendering, self._numbered, self.state, self._playing)
        self._workers: list[Worker] = []
        self._watch: FolderWatch | None = None

    def begin_work(self, workers: int = 1) -> None:
        """Let this process work through the queue as well."""
        Thread(target=self._back_up, name="backup", daemon=True).start()
        folder = Settings().watch
        if folder is not None and folder.is_dir():
            self._watch = FolderWatch(self, folder)
            self._watch.start()
        elif folder is not None:
            LOG.warning("ESCALERA_WATCH is %s, which is no folder; nothing is watched", folder)
        for _ in range(workers):
            self._workers.append(Worker(self.jobs))
            self._workers[-1].start()

    def _back_up(self) -> None:
        keep_abandoned(self)
        clear_old(self.folder / "returned")
        clear_old(self.folder / "submitted")
        try:
            back_up_daily(self.database)
        except (StoreError, OSError) as error:
            LOG.warning("no backup was made today: %s", error)

    # the shelf -------------------------------------------------------------------------------------------------

    def shelf(self, deleted: bool = False) -> list[Card]:
        """The songs, newest first. Stairs that edits left undrawn are drawn now; a song that cannot be read says so on its card."""
        return [self._drawn(c) if c.picture.get("undrawn") or not c.picture else c for c in self.cards(deleted)]

    def cards(self, deleted: bool = False) -> list[Card]:
        """The songs as they were last drawn, newest first: names and ids without a stair being drawn for them."""
        with self.database.read() as session:
            return self.repository.cards(session, deleted)

    def _drawn(self, card: Card) -> Card:
        """A card with its stair, kept in memory until it is written with the next edit: reading never writes."""
        place = (card.id, card.touched_at)
        picture = self._pictures.get(place)
        if picture is None:
            try:
                with self.database.read() as session:
                    song = self.repository.head(session, card.id, any_state=True).song
            except StoreError as error:
                return replace(card, picture={}, trouble=str(error))
            arranged(song)
            picture = self._pictures.put(place, picture_of(song))
        return replace(card, picture=picture)

    def bin_count(self) -> int:
        with self.database.read() as session:
            return self.repository.count_deleted(session)

    def add_song(self, song: Song, summary: str) -> int:
        """Keep a new song; returns its id."""
        with self.database.write() as session:
            return self.repository.create(session, song, summary, picture_of(song))

    def set_deleted(self, song_id: int, deleted: bool) -> None:
        """Put a song into the bin, or take it out again."""
        with self.database.write() as session:
            self.repository.set_deleted(session, song_id, deleted)

    def erase(self, song_id: int) -> None:
        """Remove a song for good, with its files, and the patterns, prints and sound that no other song has."""
        self.jobs.drop_of(song_id)
        self.rendering.forget()
        self.bounces.forget(song_id)
        with self.database.write() as session:
            self.repository.erase(session, song_id)
        self.samples.sweep()

    def recover(self, song_id: int) -> Head:
        """Go back to the newest state of a damaged song that can be read. Raises StoreError where there is none."""
        with self.database.write() as session:
            found = self.repository.readable(session, song_id)
            if found is None:
                raise StoreError(f"No state of song {song_id} can be read. Restore a backup of the database.")
            self.repository.go_to(session, song_id, found)
        return self.head(song_id)

    # one song --------------------------------------------------------------------------------------------------

    def head(self, song_id: int) -> Head:
        with self.database.read() as session:
            return self.repository.head(session, song_id)

    def state(self, song_id: int, revision_id: int) -> Song:
        with self.database.read() as session:
            return self.repository.at(session, song_id, revision_id)

    def history(self, song_id: int, limit: int = 200) -> list[Entry]:
        with self.database.read() as session:
            return self.repository.history(session, song_id, limit)

    def edit(self, song_id: int, base_id: int, edits: Edit | Sequence[Edit], summary: str = "") -> Outcome:
        """Apply one edit, or several as one step (with a summary of their own), to the state `base_id`.

        Raises
        ------
        StaleRevision
            When `base_id` is not the current state; nothing is changed.
        EditError
            When an edit does not apply, or would change a layer that is held; nothing is changed.
        """
        return self._edited(song_id, base_id, self.state(song_id, base_id), edits, summary)

    def _edited(self, song_id: int, base_id: int, before: Song, edits: Edit | Sequence[Edit], summary: str) -> Outcome:
        begun = time.perf_counter()
        steps = list(edits) if isinstance(edits, Sequence) else [edits]
        song = before
        summaries = []
        for step in steps:
            after = step.apply(song)  # first, since only an edit that applies can say what it did
            summaries.append(step.summary(song))
            song = after
        keep_protected(before, song)
        rest = f"; and {len(summaries) - 3} more" if len(summaries) > 3 else ""
        summary = summary or "; ".join(summaries[:3]) + rest
        outcome = Outcome(self._append(song_id, base_id, before, song, summary), summary, before)
        kinds = ", ".join(getattr(step, "kind", "?") for step in steps[:3])
        LOG.info("song %d edited (%s) in %.0f ms", song_id, kinds, 1000 * (time.perf_counter() - begun))
        return outcome

    def _append(self, song_id: int, base_id: int, before: Song, song: Song, summary: str, always: bool = False) -> Head:
        picture = picture_of(song)
        with self.database.write() as session:
            if song == before and not always:
                head = self.repository.head(session, song_id)
                if head.revision_id == base_id:
                    return head
            revision = self.repository.append(session, song_id, base_id, before, song, summary, picture)
        self.repository.remember(revision, song)
        return Head(song_id, revision, True, False, song)

    def undo(self, song_id: int) -> Head:
        return self._step(song_id, False)

    def redo(self, song_id: int) -> Head:
        return self._step(song_id, True)

    def _step(self, song_id: int, forward: bool) -> Head:
        with self.database.write() as session:
            head = self.repository.step(session, song_id, forward)
            if head is None:
                raise EditError(f"There is nothing to {'redo' if forward else 'undo'}. The song stays as it is.")
            self.repository.touch(session, song_id, head.song, picture_of(head.song))
        return self.head(song_id)

    def restore(self, song_id: int, base_id: int, revision_id: int, verdict: str = "") -> Outcome:
        """Bring an earlier state back as a new step; with a verdict, which is kept even when the current state was chosen."""
        song, current = self.state(song_id, revision_id), self.state(song_id, base_id)
        song = replace(song, next_id=max(song.next_id, current.next_id))
        summary = verdict or f"Back to {self.versions.names(song_id, revision_id)[0]}"
        return Outcome(self._append(song_id, base_id, current, song, summary, bool(verdict)), summary)

    def command(self, song_id: int, base_id: int, fields: Mapping[str, str]) -> Outcome:
        """Read a command of the registry from fields and apply it to the state `base_id`; raises like `edit`."""
        before = self.state(song_id, base_id)
        edits, summary = read_edits(fields, before, self)
        outcome = self._edited(song_id, base_id, before, edits, summary)
        note_done(fields, song_id, outcome.head.song, self)
        return outcome

    def print_of(self, song: Song, layer_id: int) -> Edit:
        """The edit that freezes a layer to audio rendered now; what it was made from stays underneath."""
        layer_of(song, layer_id)
        return print_edit(song, layer_id, self.rendering.renderer, self.database)

    def print_layer(self, song_id: int, base_id: int, layer_id: int) -> Outcome:
        return self.command(song_id, base_id, {"kind": "print_layer", "layer_id": str(layer_id)})

    def _numbered(self, song_id: int) -> tuple[int, Song]:
        head = self.head(song_id)
        return head.revision_id, head.song

    def _playing(self) -> list[int]:
        """Songs with more than one section and layers, the newest touched first."""
        return self.index.all().with_parts or self.index.all(whole=True).with_parts

    def submitted_folder(self, token: str) -> Path:
        """Where submissions wait to be judged, by the name they were given together. Raises NotFound for what is no such name."""
        if not token.isalnum():
            raise NotFound("These files are not there any more. Choose them again.")
        return self.folder / "submitted" / token

    def returned_folder(self, token: str) -> Path:
        """Where files wait that came back, by the name they were given together. Raises NotFound for what is no such name."""
        if not token.isalnum():
            raise NotFound("These files are not there any more. Choose them again.")
        return self.folder / "returned" / token

    def earlier_states(self, song_id: int) -> Iterator[tuple[int, Song]]:
        """States that the song has been in, the newest first, as many as the history shows; those that are damaged are left out."""
        for entry in self.history(song_id):
            try:
                yield entry.revision_id, self.state(song_id, entry.revision_id)
            except EscaleraError:
                continue

    # recordings ------------------------------------------------------------------------------------------------

    def read_arrivals(self) -> None:
        """Let a worker read what waits to be brought in. One that is at it may have looked for the last time, so that only one
        that still waits to begin is enough."""
        job = self.at_work(BRING_IN)
        if job is None or job.state == "running":
            self.jobs.start(BRING_IN, 0, 0, {}, "Reading recordings")

    def adopt_samples(self, song_id: int) -> None:
        """Let a worker enter the samples that came with a song into the library."""
        head = self.head(song_id)
        if head.song.samples:
            self.jobs.start(ADOPT, song_id, head.revision_id, {}, "Reading the samples of the project")

    def add_bounce(self, song_id: int, sample_id: int, note: str = "") -> int:
        """Keep a sample as a bounce of a song, and let a worker lay it over the song's bars; the bounce's id."""
        card = self.samples.card(sample_id)
        bounce_id = self.bounces.add(song_id, card.content, card.name, note)
        self.read_bounce(song_id, bounce_id)
        return bounce_id

    def _arrived(self, said: dict[str, int], sample_id: int) -> None:
        """A file was brought in as something: a mix of a song, a track to take apart, a voice of a section."""
        if said.get("bounce_of"):
            self.add_bounce(said["bounce_of"], sample_id)
        if said.get("study"):
            self.add_study(sample_id)
        if said.get("sung_in"):
            keep_sung(self, said["sung_in"], said.get("section", 0), sample_id)

    def _taken(self, said: dict[str, int], file: Path, name: str) -> bool:
        """A stem is put beside the others of its kit, and read with them once all are there; what came back waits until it is asked for."""
        if said.get(BESIDE):
            folder = self.returned_folder(str(said[BESIDE]))
            folder.mkdir(parents=True, exist_ok=True)
            free = name.lstrip(".") or "file"
            file.replace(folder / (free if not (folder / free).exists() else f"{len(list(folder.iterdir()))}-{free}"))
            return True
        if not said.get("kit"):
            return False
        self.kits.take(said["kit"], file, name)
        if self.kits.whole(said["kit"], said.get("kit_size", 0)):
            self.lay_kit(said["kit"], said.get("kit_tempo", 0) / 100.0, said.get("bounce_of", 0))
        return True

    def expect_kit(self, kit: int, size: int, tempo_bpm: float = 0.0, bounce_of: int = 0) -> None:
        """Not all stems of a kit could be sent: it is laid when so many are there."""
        if size and self.kits.whole(kit, size, fewer=True):
            self.lay_kit(kit, tempo_bpm, bounce_of)

    def lay_kit(self, kit: int, tempo_bpm: float = 0.0, bounce_of: int = 0) -> None:
        """Let a worker lay the stems of a kit that are there as the layers of a song, or add them up as a mix of one."""
        self.jobs.start(STEMS, bounce_of, 0, {"kit": kit, "tempo_bpm": tempo_bpm}, "Reading stems")

    def make_up_kit(self) -> None:
        """Let a worker make a kit of stems and lay it, to try it out."""
        if not self.at_work(STEMS):
            self.jobs.start(STEMS, 0, 0, {"kit": 0, "tempo_bpm": 0.0}, "Making up a kit of stems")

    def keep_long_take(self, song_id: int, token: str) -> None:
        """Let a worker keep a take that takes longer to read than a page should wait."""
        self.jobs.start(LONG_TAKE, song_id, 0, {"token": token}, "Reading a long take")

    def add_study(self, sample_id: int) -> int:
        """Keep a sample as a track to take apart, and let a worker read it; the study's id. One that was read is there at once."""
        card = self.samples.card(sample_id)
        study_id = self.studies.add(card.content, card.name)
        if self.studies.get(study_id).reading is None:
            self.read_study(study_id)
        return study_id

    def read_study(self, study_id: int) -> None:
        """Let a worker read a study with its corrections, unless one is about to."""
        self.studies.get(study_id)
        waiting = self.at_work(STUDY)
        if waiting is None or waiting.state == "running" or waiting.options.get("study") != study_id:
            self.jobs.start(STUDY, 0, 0, {"study": study_id}, "Reading a track")

    def make_up_track(self, number: int) -> None:
        """Let a worker bring in one of the finished tracks that the program makes up, to try studies out."""
        if not self.at_work(MADE_UP_TRACK):
            self.jobs.start(MADE_UP_TRACK, 0, 0, {"track": number}, "Making up a finished track")

    def make_up_mix(self, song_id: int) -> None:
        """Let a worker bring in a mix that the program makes up, to try bounces out."""
        self.jobs.start(MADE_UP, song_id, self.head(song_id).revision_id, {}, "Making up a mix")

    def read_bounce(self, song_id: int, bounce_id: int) -> None:
        """Let a worker lay a bounce over the song as it is now."""
        self.bounces.need(song_id, bounce_id)
        head = self.head(song_id)
        self.jobs.start(BOUNCE, song_id, head.revision_id, {"bounce": bounce_id}, "Reading a bounce")

    def make_own_samples(self) -> None:
        """Let a worker make the program's own samples, unless one is at it."""
        if not self.at_work(OWN_SAMPLES):
            self.jobs.start(OWN_SAMPLES, 0, 0, {}, "Making the program’s own samples")

    def all_at_work(self, *kinds: str, song_id: int = 0) -> list[Job]:
        """The jobs of these kinds (of a song, or of none) that wait to begin, then those that run. All kinds are looked at in one
        moment, so that a job which leads to another is never missed between the two."""
        with self.database.read() as session:
            jobs = job_store.of_song(session, song_id)
        busy = [j for j in jobs if j.kind in kinds and j.state in ("waiting", "running")]
        return sorted(busy, key=lambda j: j.state == "running")

    def at_work(self, *kinds: str, song_id: int = 0) -> Job | None:
        return next(iter(self.all_at_work(*kinds, song_id=song_id)), None)

    def last_job(self, kind: str, song_id: int = 0) -> Job | None:
        """The newest job of a kind (of a song, or of none)."""
        with self.database.read() as session:
            jobs = [j for j in job_store.of_song(session, song_id) if j.kind == kind]
        return max(jobs, key=lambda j: j.created_at, default=None)

    def read_songs(self) -> None:
        """Let a worker read what is known of songs whose state changed, unless one waits to."""
        if self.at_work(SONG_FACTS) is None:
            self.jobs.start(SONG_FACTS, 0, 0, {}, "Reading songs for Today")

    # sounds ----------------------------------------------------------------------------------------------------

    def favourites(self) -> set[str]:
        with self.database.read() as session:
            return shelves.favourites(session)

    def set_favourite(self, sound: str, liked: bool) -> None:
        sound_of(sound)
        with self.database.write() as session:
            shelves.set_favourite(session, sound, liked)

    def audition(self, song_id: int, sound: str) -> bytes:
        """A sound in the song's key and tempo, as a WAV."""
        return self.rendering.chunk_wav(audition_song(self.head(song_id).song, sound), 0)

    def hear(self, song: Song) -> bytes:
        """A small song as a WAV, its first section with the tail."""
        return self.rendering.chunk_wav(song, 0)

    def backup(self, target: Path) -> None:
        """Copy the database to a file. Raises InputError when the place cannot be used."""
        if target.exists() and target.resolve() == self.database.path.resolve():
            raise InputError(f"{target.name} is the database itself. Choose another file for the backup.")
        if not target.parent.is_dir():
            raise InputError(f"The folder of {target.name} does not exist. Create it first.")
        self.database.backup(target)

    def close(self) -> None:
        if self._watch is not None:
            self._watch.stop()
        for worker in self._workers:
            worker.close()
        self.rendering.close()
        self.tasks.close()
        self.drills.close()
        self.samples.close()
        self.queue.close()
        self.database.close()


def picture_of(song: Song) -> Plain:
    """What the shelf shows of a song: figures and a small stair, left undrawn where the energy is not yet computed."""
    known = arranged(song).sections if is_arranged(song) else None
    steps = [
        {
            "bars": s.bars,
            "start": s.target.start,
            "end": s.target.end,
            "name": s.name,
            "arranged": round(known[i].value, 2) if known else 0.0,
        }
        for i, s in enumerate(song.sections)
    ]
    return {
        "tempo_bpm": song.tempo_bpm,
        "metre": str(song.metre),
        "key": key_text(song.key),
        "bars": song.bars,
        "seconds": round(timeline(song).seconds, 2),
        "layers": len(song.layers),
        "steps": steps,
        **({} if known else {"undrawn": True}),
    }

"""The list of ideas of ideas: kept in a moment, offered again where they might fit, heard, brought back; one side of the studio."""

from __future__ import annotations

import zlib

import numpy as np

from escalera.core.caching import Results
from escalera.core.checks import Finding
from escalera.core.document.names import clean_name, clean_words
from escalera.core.document.song import Song
from escalera.core.ideas import Fit, Idea, answers, fits
from escalera.errors import InputError, NotFound
from escalera.formats.audio import decode_audio, encode_audio
from escalera.formats.project import read_project, write_project
from escalera.store import idea_store as lot
from escalera.store.database import Database
from escalera.store.idea_store import ParkedIdea

MAX_IDEA_NAME, MAX_TEXT, MAX_SOURCE = 120, 4000, 200
MAX_SAMPLE_S = 120.0
LOUDEST = 10 ** (-1.0 / 20)


class Ideas:
    """Keeping an idea changes no song and needs no undo; bringing one back is an edit of the song."""

    def __init__(self, database: Database):
        self._database = database
        self._songs: Results[Song] = Results(128)

    def all(self) -> list[ParkedIdea]:
        """Those without a place first, the newest first."""
        with self._database.read() as session:
            return lot.all_ideas(session)

    def keep_text(self, text: str, source: str = "") -> str:
        """Keep words; their first line is the name, which is returned. Raises InputError for nothing or too much."""
        lines = text.strip().splitlines() or [""]
        if len(text) > MAX_TEXT:
            raise InputError(f"The idea has {len(text):,} characters; at most {MAX_TEXT:,} fit. Shorten it.")
        name = clean_name(lines[0][:MAX_IDEA_NAME], "idea", MAX_IDEA_NAME)
        rest = "\n".join([lines[0][MAX_IDEA_NAME:], *lines[1:]]).strip()
        return self._keep("text", name, rest, source)

    def keep_song(self, kind: str, song: Song, source: str) -> str:
        """Keep a pattern or a section that was cut out of a song; returns its name."""
        return self._keep(kind, song.title[:MAX_IDEA_NAME], "", source, zlib.compress(write_project(song)))

    def keep_sample(self, name: str, data: bytes, source: str) -> str:
        """Keep a recording. Raises FormatError for what is no audio, InputError when it is too long, silent or nobody's."""
        name = clean_name(name, "name", MAX_IDEA_NAME)
        source = clean_words(source, "source", MAX_SOURCE)
        if not source:
            raise InputError(
                "Say where the recording comes from: your own, or whose leave you have. It is needed "
                "before anything made from it is published."
            )
        audio, rate = decode_audio(data, MAX_SAMPLE_S + 0.01)
        seconds, peak = audio.shape[1] / rate, float(np.abs(audio).max(initial=0.0))
        if not 0.05 <= seconds <= MAX_SAMPLE_S:
            raise InputError(
                f"The recording lasts {seconds:.2f} s; between 0.05 and {MAX_SAMPLE_S:.0f} s are kept "
                f"as an idea. Cut it."
            )
        if peak < 1e-4:
            raise InputError("The recording is silent. Choose another one.")
        flac = encode_audio(audio * np.float32(min(1.0, LOUDEST / peak)), rate, "flac", 24)
        return self._keep("sample", name, "", source, flac, seconds)

    def _keep(self, kind: str, name: str, text: str, source: str, data: bytes = b"", seconds: float = 0.0) -> str:
        with self._database.write() as session:
            lot.keep_idea(session, kind, name, text, source[:240], data, seconds)
        return name

    def idea(self, idea_id: int) -> Idea:
        """An idea as the core knows it. Raises NotFound."""
        with self._database.read() as session:
            card = lot.find_idea(session, idea_id)
        return self._idea(card)

    def _idea(self, card: ParkedIdea) -> Idea:
        song = self._song(card) if card.kind in ("pattern", "section") else None
        return Idea(card.id, card.kind, card.name, card.text, song, card.seconds, card.source)

    def _song(self, card: ParkedIdea) -> Song:
        key = (card.id, card.created_at)  # the store gives a freed number out again
        return self._songs.get_or_make(key, lambda: read_project(zlib.decompress(self._data(card.id))))

    def sample_wav(self, idea_id: int) -> bytes:
        """A recording as a 16-bit WAV. Raises NotFound."""
        audio, rate = decode_audio(self._data(idea_id))
        return encode_audio(audio, rate)

    def _data(self, idea_id: int) -> bytes:
        with self._database.read() as session:
            data = lot.idea_data(session, idea_id)
        if not data:
            raise NotFound("This idea is words; there is nothing of it to hear.")
        return data

    def fits(self, song: Song, section_id: int = 0) -> list[Fit]:
        """Ideas without a place that might fit a song, or one of its sections; the likeliest first."""
        return fits(song, self._without_place(), section_id)

    def answers(self, song: Song, finding: Finding) -> list[Fit]:
        """Ideas without a place that might answer a finding; the likeliest first."""
        return answers(song, self._without_place(), finding)

    def _without_place(self) -> list[Idea]:
        return [self._idea(card) for card in self.all() if not card.placed]

    def waiting(self) -> int:
        """How many ideas have no place yet."""
        with self._database.read() as session:
            return lot.waiting(session)

    def set_placed(self, idea_id: int, where: str) -> str:
        """Say where an idea found its place; '' offers it again. Returns its name. Raises NotFound."""
        with self._database.write() as session:
            return lot.set_placed(session, idea_id, where)

    def forget(self, idea_id: int) -> str:
        """Let an idea go; returns its name. Raises NotFound."""
        with self._database.write() as session:
            return lot.forget_idea(session, idea_id)

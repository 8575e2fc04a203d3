"""Finished tracks of our own, with what is true of them: for trying what a study reads, and for holding it against truth.

A track is a song by other sounds than the program would choose, its tempo breathing from section to section, cut a few beats before
its first whole bar, its last part in another key, mastered.
"""

from __future__ import annotations

import io
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING
from zipfile import ZipFile

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.edits.harmony_edits import ChangeKeyAt
from escalera.core.edits.song_edits import SetTempo
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.errors import RenderStopped
from escalera.formats.project import read_project
from escalera.lazy_dataclasses import dataclass
from escalera.services import library
from escalera.services.new_song import new_song
from escalera.services.stand_in_mix import CACHE_MB, elsewhere
from escalera.services.stems import bring_in_stems
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ

if TYPE_CHECKING:
    from escalera.services.studio import Studio

SONGS_FILE = "made_up_tracks.zip"  # projects by title, laid out once
HEARD = 1e-4  # a stem that peaks lower is none
SILENCE_S = 0.41  # before it begins, as masters have it
BREATH = (0.0, 0.006, -0.004, 0.008, -0.006, 0.004)  # by which sections are faster or slower, in turns
DRIVE = 2.2
Audio = NDArray[np.float32]
Tell = Callable[[float], None]


@dataclass(frozen=True, slots=True)
class TrueSection:
    """A section as it is: its first bar counted from 0, its role, and its key changed by so many semitones."""

    first_bar: int
    bars: int
    role: str
    shift: int = 0


@dataclass(frozen=True, slots=True)
class Truth:
    """What is true of a track, in seconds of its audio. Chords are (start, end, root class, whether its third is minor)."""

    tempo_bpm: float
    beats_a_bar: int
    bars_s: tuple[float, ...]
    tonic: int
    minor: bool
    chords: tuple[tuple[float, float, int, bool], ...]
    sections: tuple[TrueSection, ...]


@dataclass(frozen=True, slots=True)
class Recipe:
    """How a finished track is made from one of the starting loops."""

    title: str
    start: str
    form: str
    tempo_bpm: float
    key: str = ""
    pickup_beats: int = 0
    lift_semitones: int = 0  # of its last but one section and what follows
    breathes: bool = True


STAND_INS = (
    Recipe("Lamp Street", "bright-strum", "Intro 4, Verse 16, Chorus 8, Verse 8, Chorus 8, Bridge 8, Chorus 8, Outro 4", 112.0, "A major", 1, 2),
    Recipe("Salt Circuit", "night-drive", "Intro 8, Verse 16, Build 8, Drop 16, Break 8, Build 8, Drop 16, Outro 8", 108.0, "B minor"),
)  # fmt: skip


def _kept(recipe: Recipe) -> Song | None:
    """The song of a recipe as it was when readings were first held against it, so that judging material stays what it was."""
    with ZipFile(io.BytesIO(library.file(SONGS_FILE))) as songs:
        name = f"{recipe.title}.json"
        return read_project(songs.read(name)) if name in songs.namelist() else None


def song_of_recipe(recipe: Recipe) -> Song:
    """The song beneath a track."""
    made = _kept(recipe) or new_song(
        recipe.title, recipe.tempo_bpm, key=recipe.key, start=recipe.start, form_text=recipe.form
    )
    if recipe.lift_semitones and len(made.sections) > 2:
        made = ChangeKeyAt(made.sections[-2].id, recipe.lift_semitones).apply(made)
    if recipe.breathes:
        for section, by in zip(made.sections, BREATH * len(made.sections)):
            made = SetTempo(round(recipe.tempo_bpm * (1 + by), 3), section.id).apply(made)
    return made


def finished_track(
    recipe: Recipe, tell: Tell = lambda share: None, wanted: Callable[[], bool] = lambda: True
) -> tuple[Audio, Truth, Song]:
    """The audio (2, n) at 44.1 kHz, what is true of it, and the song it was made from."""
    return mastered(song_of_recipe(recipe), recipe.pickup_beats, tell, wanted)


def mastered(
    song: Song,
    pickup_beats: int = 0,
    tell: Tell = lambda share: None,
    wanted: Callable[[], bool] = lambda: True,
    exchanged: bool = True,
) -> tuple[Audio, Truth, Song]:
    """A song as a finished track: by other sounds, cut to its last `pickup_beats` beats before the second bar, driven, a little silence before it."""
    heard = elsewhere(song) if exchanged else song
    mix = Renderer(CACHE_MB).render(heard, tell, wanted)
    loud = float(np.sqrt((mix**2).mean())) or 1.0
    mix = np.tanh(mix * np.float32(DRIVE * 0.12 / loud)) * np.float32(0.9)
    truth = truth_of(song)
    cut = truth.bars_s[1] - pickup_beats * 60.0 / song.tempo_bpm if pickup_beats else 0.0
    kept = mix[:, round(cut * RATE_HZ) :]
    audio = np.pad(kept, ((0, 0), (round(SILENCE_S * RATE_HZ), 0))).astype(np.float32)
    return audio, _moved(truth, SILENCE_S - cut, 1 if pickup_beats else 0), heard


def truth_of(song: Song) -> Truth:
    """What is true of a song played from its first bar on."""
    line = timeline(song)
    chords: list[tuple[float, float, int, bool]] = []
    sections, bar = [], 0
    for span in line.spans:
        found = section_harmony(song, span)
        ticks = [max(0, t) for t in found.ticks]
        for low, high, chord in zip(ticks, [*ticks[1:], span.length_ticks], found.chords):
            if high > low:
                low_s, high_s = (span.start_seconds + span.seconds_at(t) for t in (low, high))
                chords.append((low_s, high_s, chord.root_class, (chord.root_class + 3) % 12 in chord.classes))
        sections.append(TrueSection(bar, span.section.bars, span.section.role, span.section.shift_semitones))
        bar += span.section.bars
    metre = song.metre
    return Truth(
        song.tempo_bpm * 960 / metre.beat_ticks, metre.bar_ticks // metre.beat_ticks, tuple(line.bar_seconds()),
        song.key.tonic_class, song.key.is_minor, tuple(chords), tuple(sections),
    )  # fmt: skip


def _moved(truth: Truth, by_s: float, bars_cut: int) -> Truth:
    bars = tuple(b + by_s for b in truth.bars_s[bars_cut:])
    chords = tuple((max(0.0, a + by_s), b + by_s, r, m) for a, b, r, m in truth.chords if b + by_s > 0)
    sections = tuple(
        replace(s, first_bar=max(0, s.first_bar - bars_cut), bars=s.bars - (bars_cut if i == 0 else 0))
        for i, s in enumerate(truth.sections)
    )
    return replace(truth, bars_s=bars, chords=chords, sections=sections)


def stem_kit(
    song: Song, folder: Path, tell: Tell = lambda share: None, wanted: Callable[[], bool] = lambda: True
) -> list[Path]:
    """A song's layers as stems in a folder: with their spaces, from the song's beginning, at the levels that add up to its mix."""
    import soundfile

    line, renderer, files = timeline(song), Renderer(CACHE_MB), []
    for number, layer in enumerate(song.layers):
        if not wanted():
            raise RenderStopped("Making the kit was called off.")
        audio = renderer.before_master(song, line, 0, round(line.seconds * RATE_HZ), frozenset((layer.id,)))
        if float(np.abs(audio).max(initial=0.0)) > HEARD:
            files.append(folder / f"{number + 1:02d} {layer.name}.flac")
            soundfile.write(str(files[-1]), np.clip(audio, -1.0, 1.0).T, RATE_HZ, subtype="PCM_24")
        tell((number + 1) / len(song.layers))
    return files


def add_stem_kit(studio: Studio, tell: Tell = lambda share: None, wanted: Callable[[], bool] = lambda: True) -> int:
    """Make a kit of stems of the first stand-in and lay it; the new song's id."""
    song = song_of_recipe(replace(STAND_INS[0], breathes=False, lift_semitones=0))
    with tempfile.TemporaryDirectory(dir=studio.folder) as folder:
        files = stem_kit(song, Path(folder), lambda share: tell(0.3 * share), wanted)
        named = [(f, f.name) for f in files]
        return bring_in_stems(
            studio, named, f"{song.title}, from its stems", 0.0, lambda share: tell(0.3 + 0.7 * share), wanted
        ).song_id


def add_finished_track(
    studio: Studio, number: int, tell: Tell = lambda share: None, wanted: Callable[[], bool] = lambda: True
) -> int:
    """Bring in one of the stand-ins as a study; the study's id."""
    recipe = STAND_INS[number % len(STAND_INS)]
    audio, _, _ = finished_track(recipe, lambda share: tell(0.9 * share), wanted)
    sample = studio.samples.add_audio(
        f"{recipe.title}, a finished track", audio, "Escalera’s own", "program", "made up for trying what a study reads"
    )
    return studio.add_study(sample)

"""Songs out of markers: a WAV's cues and regions are sections on bars, its sound lies under them where it was."""

import struct

import numpy as np
import pytest
import soundfile

from escalera.core.reading.timeline import timeline
from escalera.errors import EscaleraError, InputError
from escalera.formats.wav_cues import cue_chunks, info_chunk, read_wav_markers
from escalera.services.importing import import_path
from escalera.services.packing import PackOptions, write_pack
from tests.songs import small_song

RATE = 44_100
BAR = 2 * RATE  # at 120 bpm
SONG = small_song()


def wav(path, seconds, chunks, form=b"RIFF"):
    noise = 0.1 * np.random.default_rng(3).standard_normal((int(seconds * RATE), 2))
    soundfile.write(path, noise.astype(np.float32), RATE, subtype="PCM_16")
    data = path.read_bytes() + chunks
    path.write_bytes(form + struct.pack("<I", len(data) - 8) + data[8:])
    return path


def regions(rows):
    """Cues with lengths: (sample, name, samples long)."""
    body = b"adtl"
    for number, (_, _, length) in enumerate(rows, 1):
        body += b"ltxt" + struct.pack("<III4sHHHH", 20, number, length, b"rgn ", 0, 0, 0, 0)
    return cue_chunks([(at, name) for at, name, _ in rows]) + b"LIST" + struct.pack("<I", len(body)) + body


def test_markers_are_sections_and_the_sound_lies_where_it_was(studio, tmp_path):
    told = info_chunk("mix", "120 bpm, 4/4, A minor")
    path = wav(
        tmp_path / "night mix.wav", 40, cue_chunks([(0, "Intro"), (4 * BAR, "Verse"), (12 * BAR + 4000, "Drop")]) + told
    )
    found = import_path(path, studio.samples)
    song = found.song
    assert [(s.name, s.bars) for s in song.sections] == [("Intro", 4), ("Verse", 8), ("Drop", 8)]
    assert (song.title, song.tempo_bpm, str(song.key)) == ("night mix", 120.0, "A minor")
    (layer,) = song.layers
    heard = studio.rendering.renderer.before_master(song, timeline(song), 0, 38 * RATE, frozenset((layer.id,)), False)
    wanted = soundfile.read(path, frames=38 * RATE, dtype="float32")[0].T
    likeness = (heard * wanted).sum() / np.sqrt((heard**2).sum() * (wanted**2).sum())
    assert likeness > 0.99


def test_regions_say_where_sections_end_and_the_tempo_is_asked_for(studio, tmp_path):
    path = wav(tmp_path / "parts.wav", 24, regions([(BAR, "A", 3 * BAR), (8 * BAR, "B", 4 * BAR)]))
    assert [m[2] for m in read_wav_markers(path).markers] == [3 * BAR, 4 * BAR]
    with pytest.raises(InputError, match="Give the tempo"):
        import_path(path, studio.samples)
    song = import_path(path, studio.samples, tempo="120").song
    assert [(s.name, s.bars) for s in song.sections] == [("Start", 1), ("A", 3), ("Between", 4), ("B", 4)]
    path = wav(tmp_path / "at 120bpm.wav", 24, cue_chunks([(0, "A"), (4 * BAR, "B")]))
    assert import_path(path, studio.samples).song.bars == 12, "the name says the tempo"


def test_stems_of_a_pack_bring_its_form_back(studio, tmp_path):
    import zipfile

    write_pack(SONG, studio.rendering, PackOptions(("premaster", "cues"), "name"), tmp_path / "out.zip")
    with zipfile.ZipFile(tmp_path / "out.zip") as archive:
        archive.extractall(tmp_path / "out")
    wanted = [(s.name, s.bars) for s in SONG.sections]
    for name in ("small-premaster.wav", "tables/sections.csv", "form.txt"):
        song = import_path(tmp_path / "out" / name, studio.samples).song
        assert [(s.name, s.bars) for s in song.sections] == wanted and song.tempo_bpm == SONG.tempo_bpm, name


@pytest.mark.parametrize(
    "name, data, says",
    [
        ("a.wav", b"RIFF\0\0\0\0WAVE", "no markers"),
        ("a.txt", b"Verse: 8 bars\xff", "not UTF-8"),
        ("a.txt", b"\0" * 50, "neither a MIDI file"),
        ("a.txt", b"x" * 500_000, "neither a MIDI file"),
        ("a.csv", b"hello\n", "needs a name and a number of bars"),
    ],
)
def test_what_is_no_form_is_said(studio, tmp_path, name, data, says):
    (tmp_path / name).write_bytes(data)
    with pytest.raises(EscaleraError, match=says):
        import_path(tmp_path / name, studio.samples)

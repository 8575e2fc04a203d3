"""Packs: what a receiver finds in one who has nothing else, buses that add up, sheets that are valid and read back, called off and broken ones."""

import json
import shutil
import zipfile
from pathlib import Path

import mido
import musicxml
import numpy as np
import partitura
import pytest
import soundfile
from lxml import etree
from wavinfo import WavInfoReader

from escalera.core.edits import EDITS
from escalera.core.handing.receivers import PARTS
from escalera.core.handing.sheets import lead_sheet, part_sheets
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError, RenderStopped
from escalera.formats.musicxml_write import write_musicxml
from escalera.formats.wav_cues import read_wav_cues
from escalera.services import packing
from escalera.services.demo import demo_songs
from escalera.services.packing import PackOptions, checked_manifest, write_pack
from escalera.services.rendering import Rendering
from escalera.sound.mix import Renderer
from tests.singing import GUIDED
from tests.songs import small_song

SPACES = '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="{}">{}</xs:schema>'
# what the published schema imports: names of attributes of two other standards
BESIDE = {
    "http://www.w3.org/XML/1998/namespace": ("lang", "space"),
    "http://www.w3.org/1999/xlink": ("href", "type", "role", "title", "show", "actuate"),
}
QUICK = EDITS["set_tempo"](200).apply(GUIDED)


@pytest.fixture(scope="module")
def schema(tmp_path_factory):
    folder = tmp_path_factory.mktemp("xsd")
    text = (Path(musicxml.__file__).parent / "generate_classes" / "musicxml_4_0.xsd").read_text()
    for number, (space, names) in enumerate(BESIDE.items()):
        attributes = "".join(f'<xs:attribute name="{n}" type="xs:string"/>' for n in names)
        (folder / f"{number}.xsd").write_text(SPACES.format(space, attributes))
        address = {0: "http://www.musicxml.org/xsd/xml.xsd", 1: "http://www.musicxml.org/xsd/xlink.xsd"}[number]
        text = text.replace(address, f"{number}.xsd")
    (folder / "m.xsd").write_text(text)
    return etree.XMLSchema(etree.parse(str(folder / "m.xsd")))


@pytest.fixture(scope="module")
def pack(tmp_path_factory):
    """A whole pack of a small song, opened as a folder, by somebody who has nothing but it."""
    folder = tmp_path_factory.mktemp("pack")
    rendering = Rendering(300)
    song = EDITS["add_effect"]("bus.drums", "compressor").apply(
        EDITS["set_control"](QUICK.layers[1].id, "send.echo", -8.0).apply(QUICK)
    )
    told = write_pack(song, rendering, PackOptions(tuple(PARTS), "song", "mixer"), folder / "all.zip")
    rendering.close()
    with zipfile.ZipFile(folder / "all.zip") as archive:
        archive.extractall(folder / "out")
    return song, told, folder / "out", folder / "all.zip"


@pytest.mark.parametrize("title", ["Harbour Stairs", "Paper Engines", "small", "sung"])
def test_sheets_are_valid_and_another_library_reads_the_same_notes(schema, title, tmp_path):
    songs = {s.title: s for s in demo_songs()} | {"small": small_song(), "sung": GUIDED}
    song = songs[title]
    for sheet in (lead_sheet(song), part_sheets(song)):
        data = write_musicxml(sheet)
        assert schema.validate(etree.fromstring(data)), schema.error_log.last_error
    (tmp_path / "lead.musicxml").write_bytes(write_musicxml(lead_sheet(song)))
    with pytest.warns(UserWarning):
        read = partitura.load_musicxml(str(tmp_path / "lead.musicxml"))
    bars, at, mine = lead_sheet(song).parts[0].bars, 0, []
    for bar in bars:
        mine += [((at + n.start) / 960, n.pitches[0]) for n in bar.notes if n.pitches and not n.tied_from]
        at += bar.metre.bar_ticks
    theirs = [(float(n["onset_quarter"]), int(n["pitch"])) for n in read.parts[0].note_array()] if mine else []
    assert len(theirs) == len(mine)
    assert np.allclose(np.array(sorted(theirs)), np.array(sorted(mine))) and (
        mine or title in ("small", "Paper Engines")
    )


def test_a_receiver_rebuilds_the_song_from_the_pack_alone(pack):
    song, told, folder, _ = pack
    line = timeline(song)
    file = mido.MidiFile(next(folder.glob("*.mid")))
    ticks, tempo, markers, chords, words = 0, None, [], [], []
    for message in file.tracks[0]:
        ticks += message.time
        if message.type == "set_tempo":
            tempo = tempo or mido.tempo2bpm(message.tempo)
        if message.type == "marker":
            markers.append((ticks, message.text))
        if message.type == "text":
            chords.append(message.text)
    for track in file.tracks[1:]:
        words += [m.text for m in track if m.type == "lyrics"]
    starts = [sum(s.length_ticks for s in line.spans[:i]) for i in range(len(line.spans))]
    assert markers == [(at, s.section.name) for at, s in zip(starts, line.spans)] and tempo == pytest.approx(200)
    assert chords == [str(c) for s in line.spans for c in section_harmony(song, s).chords] and words[:4] == [
        "home",
        "by",
        "sea",
        "car-",
    ]
    rows = (folder / "tables" / "sections.csv").read_text().splitlines()
    assert [r.split(",")[0] for r in rows[1:]] == [s.name for s in song.sections] and rows[1].split(",")[2:4] == [
        "1",
        str(song.sections[0].bars),
    ]
    readme = (folder / "README.txt").read_text()
    assert "200 bpm" in readme and all(f["path"] in readme for f in told["files"] if f["path"] != "README.txt")
    assert (
        "home by sea" in (folder / "lyrics.txt").read_text()
        and "<h2>Verse</h2>" in (folder / "sheets" / "chords.html").read_text()
    )


def test_stems_begin_together_and_buses_add_up_to_the_sum(pack):
    song, told, folder, _ = pack
    waves = {p.relative_to(folder): soundfile.info(p) for p in folder.rglob("*.wav")}
    assert len({i.frames for i in waves.values()}) == 1 and {i.samplerate for i in waves.values()} == {44_100}
    assert {i.subtype for p, i in waves.items() if "/" in str(p)} == {"FLOAT"} and len(waves) == 4 + 2 * 4 + 5
    whole = soundfile.read(folder / f"{song.title.lower()}-premaster.wav", dtype="float32")[0]
    buses = sum(soundfile.read(p, dtype="float32")[0] for p in (folder / "buses").glob("*.wav"))
    off = 10 * np.log10(((whole - buses) ** 2).sum() / (whole**2).sum())
    assert off < -90 and told["sum_of_buses_off_db"] < -90
    for path in waves:
        read = WavInfoReader(str(folder / path))
        cues = [(c.position, read.cues.label_and_note(c.name)[0]) for c in read.cues.cues]
        assert cues[:2] == [(at, s.name) for at, s in zip(timeline(song).samples(44_100), song.sections)]
        assert "200 bpm" in read.info.comment and cues == read_wav_cues(folder / path)
    mix, without = (soundfile.read(folder / f"{song.title.lower()}-{n}.wav")[0] for n in ("mix", "no-drums"))
    assert np.abs(mix.T - Renderer(100).render(song)).max() < 2**-22 and (without**2).sum() < (mix**2).sum()


def test_stems_of_whole_numbers_are_lowered_together_until_none_is_clipped(tmp_path, monkeypatch):
    song, rendering = EDITS["add_effect"]("bus.drums", "drive").apply(small_song()), Rendering(100)
    monkeypatch.setattr(packing, "FLAC_LOWER_DB", (-60, 12))
    only = ("mix", "premaster", "dry", "wet", "buses")
    told = write_pack(song, rendering, PackOptions(only, "name", kind="flac"), tmp_path / "a.zip")
    with zipfile.ZipFile(tmp_path / "a.zip") as archive:
        archive.extractall(tmp_path / "out")
    assert told["stems_lowered_by_db"] == 12 and "12 dB lower" in (tmp_path / "out" / "README.txt").read_text()
    sound = {p: soundfile.read(p, dtype="float64")[0] for p in (tmp_path / "out").rglob("*.flac")}
    assert len({len(x) for x in sound.values()}) == 1 and sum(p.parent.name == "wet" for p in sound) == 3
    whole = next(x for p, x in sound.items() if p.stem.endswith("premaster"))
    off = whole - sum(x for p, x in sound.items() if p.parent.name == "buses")
    assert 10 * np.log10((off**2).sum() / (whole**2).sum()) < -90 and told["sum_of_buses_off_db"] < -90
    monkeypatch.setattr(packing, "FLAC_LOWER_DB", (-60,))
    with pytest.raises(InputError, match="over full scale"):
        write_pack(song, rendering, PackOptions(only, "name", kind="flac"), tmp_path / "b.zip")
    with pytest.raises(InputError, match="no kind of sound file"):
        write_pack(song, rendering, PackOptions(only, "name", kind="mp9"), tmp_path / "b.zip")
    assert {p.name for p in tmp_path.iterdir()} == {"a.zip", "out"}


def test_a_manifest_tells_what_was_changed(pack, tmp_path):
    _, told, _, path = pack
    assert checked_manifest(path) == [] == checked_manifest(path, thorough=True)
    names = [f["path"] for f in told["files"]]
    assert len(set(names)) == len(names) and not any(n.startswith(("/", "..")) or "\\" in n for n in names)
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(tmp_path / "changed.zip", "w") as new:
        for info in old.infolist():
            if info.filename.endswith(".mid"):
                continue
            new.writestr(info.filename, b"other" if info.filename == "lyrics.txt" else old.read(info))
    said = " ".join(checked_manifest(tmp_path / "changed.zip"))
    assert "lyrics.txt is not as it was written" in said and ".mid is missing" in said
    (tmp_path / "no.zip").write_bytes(b"PK nothing")
    with pytest.raises(InputError, match="is no pack"):
        checked_manifest(tmp_path / "no.zip")
    assert json.loads(zipfile.ZipFile(path).read("manifest.json"))["for"] == "mixer"


def test_a_pack_that_cannot_be_made_leaves_nothing(tmp_path, monkeypatch):
    rendering, song = Rendering(100), small_song()
    calls = []

    def wanted():
        calls.append(1)
        return len(calls) < 3

    with pytest.raises(RenderStopped):
        write_pack(song, rendering, PackOptions(("dry",), wanted=wanted), tmp_path / "a.zip")
    with pytest.raises(InputError, match="no sections"):
        write_pack(small_song().__class__(), rendering, PackOptions(("midi",)), tmp_path / "a.zip")
    monkeypatch.setattr(packing.shutil, "disk_usage", lambda path: shutil._ntuple_diskusage(10, 9, 1))
    with pytest.raises(InputError, match="Make room"):
        write_pack(song, rendering, PackOptions(("dry",)), tmp_path / "a.zip")
    assert not list(tmp_path.iterdir())
    rendering.close()

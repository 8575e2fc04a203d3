import json
from pathlib import Path

import jsonschema
import pytest

from escalera.core.document.codec import field_table
from escalera.errors import FormatError
from escalera.formats.audio import decode_audio, encode_audio
from escalera.formats.project import project_schema, read_project, write_project
from tests.songs import small_song

FORMAT1 = Path(__file__).parents[1] / "data" / "format1"
PLAIN = json.loads(write_project(small_song()))


def changed(path, value):
    """The project with one value replaced, as bytes."""
    plain = json.loads(json.dumps(PLAIN))
    place = plain
    for step in path[:-1]:
        place = place[step]
    place[path[-1]] = value
    return json.dumps(plain).encode()


def test_a_project_reads_back_whole(demos):
    for song in (small_song(), *demos):
        assert read_project(write_project(song)) == song


def test_a_file_of_the_first_format_still_opens():
    """Written by the version before, with something in nearly every field."""
    song = read_project((FORMAT1 / "everything.json").read_bytes())
    verse, chorus = song.sections
    pad = next(x for x in song.layers if x.name == "Soft pad")
    bass = next(x for x in song.layers if x.name == "Plucked bass")
    assert (pad.send_db("echo"), pad.send_db("shimmer"), pad.send_db("hall")) == (-9.5, -20, -60)
    assert (bass.duck_db, bass.tune_cents, pad.voicing.voices, len(pad.devices)) == (9, -14, 2, 12)
    assert [(t.lane, t.value) for t in verse.treatments] == [("send.hall", -12)]
    assert f"layer.{pad.id}.send.hall" in {c.lane for c in chorus.curves} and chorus.parked[0].body.treatments
    assert str(verse.progression.changes[0][1]) == "Am" and song.progression.passes[0][0] == 0
    assert verse.tempo_changes[0].glides and chorus.swings[0].ratio == 0.62 and song.tune[0] == verse.id
    assert song.grooves[0].parts and song.words and song.switches and song.accepted and song.push_ticks == 480
    assert read_project(write_project(song)) == song


def test_the_published_schema_fits(demos):
    for song in demos:
        jsonschema.validate(json.loads(write_project(song)), project_schema())
    published = json.loads((Path(__file__).parents[2] / "docs" / "project.schema.json").read_text())
    assert published == json.loads(json.dumps(project_schema())), "renew it with tools/write_schema.py"
    assert field_table() in (Path(__file__).parents[2] / "docs" / "formats.md").read_text(), (
        "renew it with tools/write_schema.py"
    )


BAD = {
    "unknown field": (changed(["song", "colour"], "red"), "not known: colour"),
    "newer version": (changed(["version"], 99), "reads up to 2"),
    "wrong format": (changed(["format"], "x"), "not an Escalera project"),
    "tempo": (changed(["song", "tempo_bpm"], 900), "900 lies outside 30 to 300"),
    "nan": (changed(["song", "tempo_bpm"], float("nan")), "tempo_bpm"),
    "metre": (changed(["song", "metre"], "4/0"), "4/0 is not a time signature"),
    "name": (changed(["song", "sections", 0, "name"], "x" * 10_000), "10,000 characters"),
    "phrases": (changed(["song", "sections", 0, "phrases"], [3]), "do not add up"),
    "missing layer": (changed(["song", "sections", 0, "placements", 0, "layer_id"], 77), "layer that does not exist"),
    "overlap": (
        changed(
            ["song", "sections", 0, "placements"],
            [
                dict(
                    id=90,
                    layer_id=PLAIN["song"]["layers"][0]["id"],
                    pattern_id=PLAIN["song"]["patterns"][0]["id"],
                    start_ticks=0,
                    end_ticks=3840,
                )
            ]
            * 2,
        ),
        "same id",
    ),
    "outside": (changed(["song", "sections", 0, "placements", 0, "end_ticks"], 10**7), "reaches outside"),
    "sound": (changed(["song", "layers", 0, "sound_key"], "gong"), "not in the palette"),
    "million notes": (
        changed(["song", "patterns", 0, "pattern", "notes"], [[0, 1, 0, 60, 0, 90]] * 1_000_000),
        "too large: it has 1,000,0.. parts",
    ),
    "short row": (changed(["song", "patterns", 0, "pattern", "notes"], [[0, 1]]), "rows of six"),
    "no sections": (changed(["song", "sections"], []), "no sections"),
    "cut off": (write_project(small_song())[:500], "not whole JSON"),
    "deep": (b"[" * 100_000, "not whole JSON"),
}


@pytest.mark.parametrize("name", BAD)
def test_a_project_that_cannot_be_used_says_where(name):
    data, says = BAD[name]
    with pytest.raises(FormatError, match=says):
        read_project(data)


@pytest.mark.parametrize(("kind", "bits"), [("wav", 16), ("wav", 24), ("flac", 16), ("flac", 24)])
def test_audio_goes_out_and_in(kind, bits):
    import numpy as np

    audio = (np.random.default_rng(3).uniform(-0.9, 0.9, (2, 70_000))).astype(np.float32)
    back, rate = decode_audio(encode_audio(audio, 44_100, kind, bits))
    assert rate == 44_100 and back.shape == audio.shape and np.abs(back - audio).max() < 2.0 ** (1 - bits)


def test_audio_that_cannot_be_read_says_so():
    with pytest.raises(FormatError, match="not audio that can be read"):
        decode_audio(b"RIFF" + bytes(100))

"""What samples become beside layers: textures, voices over chords, beats for the drums, families, stand-ins, what a file says of itself."""

import json
import struct
from dataclasses import asdict, replace

import numpy as np
import pytest

from escalera.core.bench.bass_faults import bass_faults
from escalera.core.bench.sample_fit import along_chords
from escalera.core.commands import COMMANDS as EDITS
from escalera.core.document.song import Song
from escalera.core.palette.sound_words import sound_for
from escalera.core.reading.events import CLIP_OF, START, layer_events
from escalera.core.reading.groove_reading import groove_beat
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.core.samples.families import families
from escalera.core.samples.said_names import FileSays, contradictions
from escalera.errors import EditError, InputError
from escalera.formats.file_says import file_says
from escalera.listen.tones import third_of
from escalera.services.heard import keep_heard, parts_from, strictest
from escalera.services.pure_work import Board, SectionHelp
from escalera.services.sample_making import make_vocoded, words_of
from escalera.services.textures import TEXTURES, make_texture, texture
from escalera.sound.recording_files import library
from escalera.store.models import SampleRow
from tests.recordings import BEAT, RATE, laid_in, loop, put, tone, written
from tests.songs import ids, small_song

SONG = small_song()
V, C, K = (ids(SONG)[name] for name in ("Verse", "Chorus", "Round kick"))


# how uneven a texture of a beat is over time, whose own unevenness is 1.0
UNEVEN = {"smear": (0.4, 0.7), "freeze": (0.0, 0.4), "grains": (0.4, 0.9)}


def rises(audio):
    """How uneven a sound is over time: the spread of its level in tenths of a second against its mean."""
    level = np.sqrt((audio[0, : audio.shape[1] // 4410 * 4410].reshape(-1, 4410) ** 2).mean(axis=1))[3:-3]
    return float(level.std() / level.mean())


@pytest.mark.parametrize("kind", TEXTURES)
def test_a_texture_is_as_long_as_asked_seeded_and_keeps_the_rights(studio, tmp_path, kind):
    id, _ = studio.samples.add_file(written(tmp_path, "Beat.wav"), licence="attribution")
    studio.samples.describe(id, {"credit": "played by hand"})
    made, _ = make_texture(studio.samples, id, 8, kind, 3)
    reading, card = studio.samples.reading(made), studio.samples.card(made)
    assert reading.seconds == pytest.approx(8 * BEAT.shape[1] / RATE, rel=0.01)
    assert (card.licence, card.credit) == ("attribution", "played by hand")
    assert "8 times as long, seed 3" in studio.samples.details(made)["made"]
    short = BEAT[:, :RATE]
    low, high = UNEVEN[kind]
    assert low < rises(texture(short, kind, 6)) < high < 0.95 < rises(BEAT)
    assert np.array_equal(texture(short, kind, 5), texture(short, kind, 5))
    assert not np.array_equal(texture(short, kind, 5), texture(short, kind, 5, seed=2))
    for odd in ((kind, 1000), ("fog", 8)):
        with pytest.raises(InputError, match="between 4 and 50|is no texture"):
            texture(short, *odd)


def test_a_loops_beat_is_played_by_the_songs_drums(studio, tmp_path):
    id, _ = studio.samples.add_file(written(tmp_path, "Beat.wav"))
    song_id = studio.add_song(replace(SONG, tempo_bpm=112.0), "Small")
    head = studio.head(song_id)
    after = studio.command(
        song_id, head.revision_id, {"kind": "take_loop_beat", "sample_id": str(id), "section_id": str(V)}
    ).head.song
    beat = groove_beat(after, after.grooves[0])
    steps = {drum: sorted({h.tick // 240 for h in beat.hits if h.drum == drum}) for drum in ("kick", "snare")}
    assert steps["kick"] == [0, 7, 8, 16, 23, 24] and steps["snare"] == [4, 12, 20, 28]


def test_a_recorded_kick_is_judged_and_tuned_like_any(studio, tmp_path):
    t = np.arange(int(1.5 * RATE)) / RATE
    kick = (np.sin(2 * np.pi * np.cumsum(44.5 * (1 + 4 * np.exp(-t * 60))) / RATE) * np.exp(-t * 1.5))[None].astype(
        np.float32
    )
    id, _ = studio.samples.add_file(written(tmp_path, "Long kick.wav", kick * 0.6))
    song = EDITS["lay_sample"](asdict(studio.samples.sample(id)), V, "hit", "drums", "kick").apply(SONG)
    layer = next(x for x in song.layers if x.clips)
    faults = [f for f in bass_faults(song, timeline(song).span_of(V)) if f.layer_id == layer.id]
    assert faults
    tuned = EDITS["tune_low"](V, layer.id).apply(song)
    left = [f for f in bass_faults(tuned, timeline(tuned).span_of(V)) if f.layer_id == layer.id]
    assert sum(len(f.ticks) for f in left) < sum(len(f.ticks) for f in faults) and not [
        f for f in left if f.kind == "mistuned"
    ]


def test_a_voice_speaks_through_the_chords_of_a_section(studio, tmp_path):
    dice, n = np.random.default_rng(4), 2 * RATE
    spoken = (dice.standard_normal(n) * (np.sin(np.arange(n) * 2 * np.pi * 3 / RATE) > 0))[None].astype(
        np.float32
    ) * 0.2
    id, _ = studio.samples.add_file(written(tmp_path, "Breath.wav", spoken), licence="own")
    song = replace(SONG, tempo_bpm=studio.samples.sample(id).tempo_bpm or 120.0)  # so that it keeps its length
    card = studio.samples.card(make_vocoded(studio.samples, song, V, id))
    made = library.read(card.content)
    assert card.licence == "own" and made.shape[1] == pytest.approx(n, rel=0.01)
    level = np.sqrt(np.mean(made[0, : n // 1000 * 1000].reshape(-1, 1000) ** 2, axis=1))
    talks = np.sqrt(np.mean(spoken[0, : n // 1000 * 1000].reshape(-1, 1000) ** 2, axis=1)) > 0.05
    assert level[talks].mean() > 4 * level[~talks].mean()  # it sounds where somebody speaks
    spectrum = np.abs(np.fft.rfft(made[0, :RATE] * np.hanning(RATE)))
    root = section_harmony(SONG, timeline(SONG).span_of(V)).at(0).root_class
    tones = [int(round(440 * 2 ** ((48 + root + 12 * o - 69) / 12))) for o in (0, 1)]
    assert max(spectrum[t - 2 : t + 3].max() for t in tones) > 8 * np.median(spectrum[100:400])


def test_what_plays_recordings_is_not_offered_to_other_machines(studio, tmp_path, monkeypatch):
    monkeypatch.setattr(Board, "anybody", True)
    song_id, _ = laid_in(studio, SONG, V, tmp_path)
    offered = {}
    for name, song in (("plain", SONG), ("recorded", studio.head(song_id).song)):
        spans = [(span, studio.rendering.renderer.plan(song, span)) for span in timeline(song).spans]
        offered[name] = len(SectionHelp(Board()).offer(song, spans))
    assert offered == {"plain": 2, "recorded": 1}


TAGS = {
    "tempo and key in tags": (lambda path: _tagged(path, "56", "Gm"), FileSays(56.0, "Gm")),
    "a sampler's note": (
        lambda path: _chunk(path, b"smpl", struct.pack("<9I", 0, 0, 22_675, 43, 0, 0, 0, 0, 0)),
        FileSays(note=43),
    ),
    "a note that nobody set": (
        lambda path: _chunk(path, b"smpl", struct.pack("<9I", 0, 0, 22_675, 60, 0, 0, 0, 0, 0)),
        FileSays(),
    ),
    "an instrument's note": (lambda path: _chunk(path, b"inst", bytes([50, 0, 0, 0, 127, 0, 127])), FileSays(note=50)),
    "nonsense": (lambda path: _tagged(path, "1e99", "\x00" * 900), FileSays()),
    "a chunk that promises too much": (
        lambda path: path.write_bytes(path.read_bytes() + b"smpl\xff\xff\xff\xff"),
        FileSays(),
    ),
}


def _tagged(path, tempo, key):
    frames = b"".join(
        name + struct.pack(">I", len(text) + 1) + b"\0\0\0" + text
        for name, text in ((b"TBPM", tempo.encode()), (b"TKEY", key.encode("latin-1")))
    )
    size = bytes(len(frames) >> shift & 127 for shift in (21, 14, 7, 0))
    _chunk(path, b"id3 ", b"ID3\x03\0\0" + size + frames)


def _chunk(path, name, data):
    data += b"\0" * (len(data) % 2)
    whole = path.read_bytes() + name + struct.pack("<I", len(data)) + data
    path.write_bytes(whole[:4] + struct.pack("<I", len(whole) - 8) + whole[8:])


@pytest.mark.parametrize("name", TAGS)
def test_what_a_file_says_of_itself_is_read(tmp_path, name):
    change, says = TAGS[name]
    path = written(tmp_path, "Beat.wav")
    change(path)
    assert file_says(path) == says


def test_tags_that_say_otherwise_are_held_against_what_is_heard(studio, tmp_path):
    path = written(tmp_path, "Plain.wav")
    _tagged(path, "93", "")
    id, _ = studio.samples.add_file(path)
    doubts = studio.samples.doubts(id)
    assert [(d.by, d.what, d.said) for d in doubts] == [("its tags", "tempo", "93 bpm")] and studio.samples.card(
        id
    ).doubts == 1
    reading = studio.samples.reading(id)
    assert not contradictions(reading, "Plain", FileSays(112.0)) and studio.samples.card(id).tempo_bpm == pytest.approx(
        112
    )
    flat = replace(reading, kind="hit", pitch_hz=98.0, tempo_bpm=None, key=None)
    assert [d.what for d in contradictions(flat, "Plain", FileSays(note=42))] == ["pitch"]
    assert not contradictions(flat, "Plain", FileSays(note=43))


CHORDS = {
    "minor": (48, 51, 55),
    "major": (48, 52, 55),
    "fifth": (48, 55),
    "note": (36,),
    "deep minor": (36, 48, 51, 55, 58),
}


@pytest.mark.parametrize("name", CHORDS)
def test_a_third_is_heard_where_there_is_one(name):
    audio = sum(tone(pitch, 1.2, partials=9) for pitch in CHORDS[name])[None].astype(np.float32)
    assert third_of(audio, 0) == (name.split()[-1] if name not in ("fifth", "note") else "")


def test_a_chord_moved_along_the_chords_says_where_its_third_is_wrong():
    minor, major = (along_chords(SONG, SONG.section_by_id[V], third) for third in (True, False))
    assert minor.wrong == ("C", "F", "G") and minor.right == ("Am",) and "C, F, G" in minor.said
    assert major.wrong == ("Am",) and "over Am" in major.said
    only = EDITS["set_chords"]("Am | Dm").apply(SONG)
    assert not along_chords(only, only.section_by_id[V], True).said


def test_a_correction_made_later_reaches_a_song_when_it_is_taken_over(studio, tmp_path):
    song_id, id = laid_in(studio, SONG, V, tmp_path)
    studio.samples.correct(id, {"tempo_bpm": "75"})
    head = studio.head(song_id)
    assert head.song.samples[0].tempo_bpm == pytest.approx(112, rel=0.01)
    after = studio.command(song_id, head.revision_id, {"kind": "renew_sample", "sample_id": str(id)}).head
    assert after.song.samples[0].tempo_bpm == 75 and studio.undo(song_id).song == head.song
    with pytest.raises(EditError, match="already goes by"):
        studio.command(song_id, studio.redo(song_id).revision_id, {"kind": "renew_sample", "sample_id": str(id)})


def test_a_corrected_pitch_reaches_the_notes_that_play_it(studio, tmp_path):
    note = (0.5 * tone(57, 0.6, ring=2.0))[None].astype(np.float32)
    id, _ = studio.samples.add_file(written(tmp_path, "Reed.wav", note))
    song = EDITS["lay_sample"](asdict(studio.samples.sample(id)), V, "note").apply(SONG)
    layer = next(x for x in song.layers if x.clips)
    assert (layer.clips[0].root, layer.family) == (57, "leads")
    studio.samples.correct(id, {"pitch_hz": "444"})
    after = EDITS["renew_sample"](asdict(studio.samples.sample(id))).apply(song).layer_by_id[layer.id]
    assert after.clips[0].root == 69 and after.clips[0].semitones == pytest.approx(-0.16, abs=0.03)


def test_samples_of_a_project_enter_the_library_as_it_describes_them(studio, tmp_path):
    song_id, id = laid_in(studio, SONG, V, tmp_path, "own")
    studio.samples.correct(id, {"tempo_bpm": "75"})
    studio.samples.describe(id, {"name": "Kitchen beat", "credit": "Played on pots"})
    described = studio.samples.sample(id)
    song = replace(studio.head(song_id).song, samples=(described,))
    kept = next(studio.samples.folder.glob("*.flac"))
    data = kept.read_bytes()
    with studio.database.write() as session:
        session.delete(session.get(SampleRow, id))
    kept.write_bytes(data)
    assert studio.samples.adopt(song.samples) == 1 and studio.samples.adopt(song.samples) == 0
    card = studio.samples.cards()[0]
    assert (card.name, card.credit, card.licence, card.tempo_bpm) == ("Kitchen beat", "Played on pots", "own", 75)
    assert studio.samples.sample(card.id) == described


def test_a_sound_plays_in_place_of_what_is_looked_for_until_it_is_found(studio, tmp_path):
    song_id = studio.add_song(SONG, "Small")
    base = studio.head(song_id).revision_id
    with pytest.raises(EditError, match="a few words"):
        studio.command(song_id, base, {"kind": "add_stand_in", "words": " ", "section_id": str(V)})
    head = studio.command(song_id, base, {"kind": "add_stand_in", "words": "dry snare", "section_id": str(V)}).head
    layer = next(x for x in head.song.layers if x.stand_in)
    row = studio.samples.wanted()[0]
    assert (row.song_id, row.layer_id, row.stand_in) == (
        song_id,
        layer.id,
        layer.sound.label,
    ) and layer.sound.drum == "snare"
    knock = (0.5 * tone(62, 0.3, ring=20.0))[None].astype(np.float32)
    id, _ = studio.samples.add_file(written(tmp_path, "Dry snare in a kitchen.wav", knock))
    assert [c.id for c in studio.samples.answers(row, studio.samples.cards())] == [id]
    studio.samples.correct(id, {"kind": "hit"})
    fields = {"kind": "play_sample", "layer_id": str(layer.id), "sample_id": str(id)}
    after = studio.command(song_id, head.revision_id, fields).head.song.layer_by_id[layer.id]
    assert after.sound_key == "recorded-snare" and after.clips and not after.stand_in and not studio.samples.wanted()


SOUGHT = {
    "a dry snare": "drum:snare", "low kick": "drum:kick", "hihat": "drum:closed hat", "bright bell": "label:bell", "choir": "family:voices",
    "deep bass": "family:low end", "qqqq": "key:soft-pad",
}  # fmt: skip


@pytest.mark.parametrize("words", SOUGHT)
def test_the_nearest_sound_stands_in(words):
    what, wanted = SOUGHT[words].split(":")
    assert wanted in getattr(sound_for(words), what).lower()


NAMES = (
    "Porch kit 104 verse",
    "Porch kit 104 alternate",
    "Porch kit 104 fill",
    "Porch kit 140 chorus",
    "Verse of rain",
    "Lone loop",
)


def test_recordings_of_one_performance_are_a_family(studio, tmp_path):
    for number, name in enumerate(NAMES):
        tempo = 140.0 if "140" in name else 104.0
        audio, _ = loop(
            "drums", tempo, 1 if "fill" in name else 2, beat=("back", "four", "half")[number % 3], seed=number
        )
        studio.samples.add_file(written(tmp_path, f"{name}.wav", audio))
    found = families(studio.samples.cards())
    assert [(f.name, [m.part for m in f.members]) for f in found] == [("porch kit", ["verse", "alternate", "fill"])]
    by_name = {c.name: c.id for c in studio.samples.cards()}
    song_id = studio.add_song(SONG, "Small")
    head = studio.head(song_id)
    with pytest.raises(EditError, match="No other recording"):
        studio.command(song_id, head.revision_id, {"kind": "lay_family", "sample_id": str(by_name["Lone loop"])})
    fields = {"kind": "lay_family", "sample_id": str(by_name[NAMES[0]])}
    empty = studio.add_song(Song(), "Empty")
    with pytest.raises(EditError, match="no sections yet"):
        studio.command(empty, studio.head(empty).revision_id, fields)
    song = studio.command(song_id, head.revision_id, fields).head.song
    layer = next(x for x in song.layers if x.clips)
    for section_id, part in ((V, "verse"), (C, "alternate")):
        names = [
            song.pattern_by_id[p.pattern_id].name
            for p in song.section_by_id[section_id].placements
            if p.layer_id == layer.id
        ]
        assert names == [f"Porch kit, {part}", "Porch kit, fill"]
    main = song.pattern_by_id[layer.pattern_id].pattern.to_list()
    assert [row[3] for row in main] == [0, 1], "the alternate is heard every second time"
    heard = layer_events(song, timeline(song).span_of(V), layer).table
    assert [int(n) for n in heard[:, CLIP_OF]] == [0, 1, 0, 1, 2] and int(heard[-1, START]) == 7 * 3840


def test_one_word_speaks_over_some_bars(studio, tmp_path):
    audio = np.zeros(2 * RATE)
    for at in (0.0, 0.6, 1.3):
        put(audio, at, 0.4 * tone(57, 0.35, ring=0.0))
    id, _ = studio.samples.add_file(written(tmp_path, "Three words.wav", audio[None].astype(np.float32)), licence="own")
    words = words_of(studio.samples.card(id).content)
    assert [round(a, 1) for a, _ in words] == [0.0, 0.6, 1.3]
    card = studio.samples.card(make_vocoded(studio.samples, SONG, V, id, 1, 2, 2))
    assert "word 2" in card.name and "bars 2 to 2" in card.name and 0.3 < card.seconds < 0.6
    chord = section_harmony(SONG, timeline(SONG).span_of(V)).at(3840)
    made = library.read(card.content)[0]
    spectrum = np.abs(np.fft.rfft(made * np.hanning(len(made)), 1 << 17))
    level = [
        spectrum[round(440 * 2 ** ((48 + c - 69) / 12) * (1 << 17) / RATE) + np.arange(-6, 7)].max() for c in range(12)
    ]
    wanted = {(chord.root_class + t) % 12 for t in chord.tones}
    assert min(level[c] for c in wanted if c in (chord.root_class,)) > 2 * np.median(level)
    for bars, word, why in (((3, 2), 0, "are not in Verse"), ((0, 2), 9, "has 3 words")):
        with pytest.raises(InputError, match=why):
            make_vocoded(studio.samples, SONG, V, id, *bars, word)


def test_what_was_heard_last_is_kept_as_a_sample_with_its_recipe_and_rights(studio, tmp_path):
    song_id, id = laid_in(studio, SONG, V, tmp_path)
    plain = studio.add_song(SONG, "Small")
    for number, cleared, tried in ((song_id, False, 0), (plain, True, 0), (plain, False, id)):
        head = studio.head(number)
        part = {"revision": head.revision_id, "section": V, "from_s": 2.0, "seconds": 3.0}
        rest = {**part, "section": C, "from_s": 0.0, "seconds": 1.5}
        parts = parts_from(json.dumps([part, {**rest, "sample": tried} if tried else rest]))
        made, name = keep_heard(studio, number, parts, "14:05")
        card = studio.samples.card(made)
        assert name == "Heard in Small, 14:05" and card.seconds == pytest.approx(4.5, abs=0.01)
        assert (card.licence == "own") == cleared
        assert "Verse from 2.0 s for 3.0 s" in studio.samples.details(made)["made"]
        sound = library.read(card.content)
        span = timeline(head.song).span_of(V)
        whole = studio.rendering.renderer.chunk(
            head.song, timeline(head.song), 0, studio.rendering.chunks(head.song)[0].key
        )
        assert span.length_seconds > 5 and np.allclose(
            sound[0, 1000 : 3 * RATE - 1000], whole[0, 2 * RATE + 1000 : 5 * RATE - 1000], atol=1e-3
        )
        studio.samples.remove(made)
    assert [strictest(x) for x in ((), ("own", "program"), ("own", "attribution"), ("attribution", "unknown"))] == [
        "own", "own", "attribution", "unknown",
    ]  # fmt: skip
    long = parts_from(json.dumps([{**part, "seconds": 100.0}, {**part, "from_s": 1.0, "seconds": 90.0}]))
    assert [(p.from_s, p.seconds) for p in long] == [(72.0, 30.0), (1.0, 90.0)]
    for odd in ("", "[]", '[{"revision": 1}]', json.dumps([{**part, "seconds": 0.2}])):
        with pytest.raises(InputError, match="Play something"):
            parts_from(odd)

"""Recordings as layers: stretched, sliced, put together again, entered in the middle, missing; and what they bring into energy."""

from dataclasses import asdict, replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.bench.loop_timing import loop_timing, swing_of_ticks
from escalera.core.commands import COMMANDS as EDITS
from escalera.core.document.recordings import Clip, sample_of
from escalera.core.document.song import Placement
from escalera.core.energy.features import clip_sounds
from escalera.core.energy.model import arranged
from escalera.core.energy.recorded_layers import spans_of
from escalera.core.reading.events import CLIP_OF, PITCH, SKIP, START, layer_events
from escalera.core.reading.key_change import key_change_plan
from escalera.core.reading.placements import add_pattern, ordered
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.pattern import CLIP, Pattern
from escalera.core.samples.slowing import beats_followed, slows
from escalera.errors import EscaleraError, InputError
from escalera.formats.project import read_project, write_project
from escalera.formats.recording import RecordingWriter
from escalera.listen.whole_reading import read_recording
from escalera.sound.clips import Recorded, _long, fitted, windows_of
from escalera.sound.mix import Renderer
from escalera.sound.recording_files import library
from escalera.sound.stretching import ATTACKS, BOTH, HELD, sped, stretched
from tests.recordings import RATE, hat, kick, known_sample, plain_sample, put, tone
from tests.songs import ids, small_song

SONG = small_song()
V = ids(SONG)["Verse"]


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    """A folder with the known samples, made known to the renderer."""
    folder = tmp_path_factory.mktemp("samples")
    for options in (
        {},
        dict(tempo=100.0, bars=1),
        dict(short_beats=1.0, name="Short beat"),
        dict(kind="chords", tempo=96.0, bars=4),
    ):
        sample, audio = known_sample(**options)
        writer = RecordingWriter(folder / f"{sample.content}.flac", len(audio))
        writer.write(audio)
        writer.finish()
    library.add_folder(folder)
    yield folder
    library.remove_folder(folder)


def laid(**options):
    """The small song at the sample's own tempo with it laid in the verse; the layer's id."""
    song = EDITS["lay_sample"](plain_sample(**options), V).apply(replace(SONG, tempo_bpm=options.get("tempo", 120.0)))
    return song, max(x.id for x in song.layers if x.clips)


def played(song, layer_id, renderer=None):
    """What a layer sounds like in the verse at 0 dB, from its first sample to its last, (2, n)."""
    span = timeline(song).span_of(V)
    flat = song.with_layer(replace(song.layer_by_id[layer_id], level_db=0.0, sends=()))
    mix = (renderer or Renderer(100)).section_mix(flat, timeline(flat).span_of(V), frozenset([layer_id]))
    n = round(span.length_seconds * RATE)
    out = np.zeros((2, n), np.float32)
    out[:, max(0, mix.offset) : min(n, mix.offset + mix.audio.shape[1])] = mix.audio[
        :, max(0, -mix.offset) : n - mix.offset
    ]
    return out


# stretching --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("ratio", [0.5, 0.8, 0.93, 1.07, 1.25, 1.9])
def test_stretching_keeps_transients_and_length(ratio):
    rng, places = np.random.default_rng(3), np.arange(8) * 0.5
    audio = np.zeros(4 * RATE)
    for place in places:
        put(audio, place, hat(rng, 0.03), 0.8)
    made = stretched(audio[None].astype(np.float32), round(4 * RATE * ratio))
    assert made.shape == (1, round(4 * RATE * ratio))
    level = np.sqrt(np.convolve(made[0] ** 2, np.ones(64) / 64, "same"))
    for place in places[1:]:
        at = round(place * ratio * RATE)
        near = level[at - 1500 : at + 1500]
        rise = at - 1500 + int(np.argmax(near > 0.3 * near.max()))
        assert abs(rise - at) / RATE < 0.003


def between_partials_db(audio, pitches):
    """How far what lies between the partials of held notes is below them."""
    power = np.abs(np.fft.rfft(audio * np.hanning(len(audio)))) ** 2
    hz = np.fft.rfftfreq(len(audio), 1 / RATE)
    on = np.any([np.abs(hz - 440 * 2 ** ((p - 69) / 12)) < 4 for p in pitches], axis=0)
    return 10 * np.log10(power[on].sum() / power[~on].sum())


@pytest.mark.parametrize("ratio", [0.8, 1.06, 1.3])
def test_held_chords_stay_smooth_and_beats_sharp_by_the_windows_they_get(ratio):
    pitches = (45, 49, 52, 57, 81)
    t = np.arange(4 * RATE) / RATE
    chord = sum(np.sin(2 * np.pi * 440 * 2 ** ((p - 69) / 12) * t) for p in pitches)[None].astype(np.float32) * 0.15
    made = stretched(chord, round(chord.shape[1] * ratio), 0.0, HELD)
    assert between_partials_db(made[0, RATE // 2 : -RATE // 2], pitches) > 35
    readings = {kind: known_sample(kind=kind, tempo=96.0, bars=4)[0] for kind in ("drums", "chords", "both")}
    assert {kind: windows_of(s) for kind, s in readings.items()} == {
        "drums": ATTACKS,
        "chords": HELD,
        "both": BOTH,
    }


@pytest.mark.parametrize("semitones", [-12, -7, -3, 3, 7, 12])
def test_transposing_keeps_length_and_hits_the_pitch(semitones):
    audio = tone(57, 2.0, ring=0.3)[None].astype(np.float32)
    made = stretched(audio, audio.shape[1], semitones)
    assert made.shape == audio.shape
    found = read_recording([made[:, 4000:-4000]], RATE, 1).pitch_hz
    assert abs(1200 * np.log2(found / (220 * 2 ** (semitones / 12)))) < 5


def test_speed_moves_the_pitch_along():
    audio = tone(57, 2.0, ring=0.3)[None].astype(np.float32)
    made = sped(audio, audio.shape[1] // 2)
    assert read_recording([made], RATE, 1).pitch_hz == pytest.approx(440, rel=0.003)


def centroid(audio):
    power = np.abs(np.fft.rfft(audio[0] * np.hanning(audio.shape[1]))) ** 2
    hz = np.fft.rfftfreq(audio.shape[1], 1 / RATE)
    keep = (hz > 100) & (hz < 8000)
    return (power * hz)[keep].sum() / power[keep].sum()


def vowel(pitch=57.0):
    """A voice of one vowel: pulses through three resonances."""
    from scipy.signal import lfilter

    n = 2 * RATE
    phase = np.cumsum(np.full(n, 440 * 2 ** ((pitch - 69) / 12) / RATE))
    pulses = np.diff(np.floor(phase), prepend=0.0)
    for hz, width in ((700, 90), (1150, 100), (2600, 140)):
        r = np.exp(-np.pi * width / RATE)
        pulses = lfilter([1 - r], [1, -2 * r * np.cos(2 * np.pi * hz / RATE), r * r], pulses)
    return (0.5 * pulses / np.abs(pulses).max())[None].astype(np.float32)


@pytest.mark.parametrize("semitones", [-7, 7])
def test_formants_are_kept_where_that_is_asked_for(kept, semitones):
    audio = vowel()
    sample = sample_of("f" * 32, "Vowel", read_recording([audio], RATE, 1))
    clip = Clip("f" * 32, 0.0, audio.shape[1] / RATE, 4.0, "stretch")
    writer = RecordingWriter(kept / f"{'f' * 32}.flac", 1)
    writer.write(audio)
    writer.finish()
    library.changed()
    before = centroid(audio)
    moved, held = (
        centroid(fitted(Recorded(replace(clip, formants=f), sample), audio.shape[1], semitones)) for f in (False, True)
    )
    assert abs(held / before - 1) < 0.10 < abs(moved / before - 1)


@pytest.mark.parametrize(("asked", "plays"), [(36.0, 24.0), (-29.0, -17.0), (24.0, 24.0), (-3.5, -3.5)])
def test_a_note_out_of_a_recordings_reach_sounds_in_the_nearest_octave_that_is_not(kept, asked, plays):
    sample, _ = known_sample()
    for fit in ("alone", "stretch", "speed"):
        one = Recorded(Clip(sample.content, 0.0, 1.0, 2.0, fit), sample)
        assert np.array_equal(fitted(one, RATE, asked), fitted(one, RATE, plays))
        assert (
            np.abs(fitted(one, RATE, asked)).max() > 0.01
            and _long(one, RATE, 99, 4_000, asked, False).shape[1] == 4_000
        )


@pytest.mark.parametrize(("length", "semitones"), [(10, 0), (RATE * 1000, 0), (RATE, 30)])
def test_what_no_ear_would_take_for_the_same_sound_is_refused(length, semitones):
    with pytest.raises(InputError, match=r"between|at most"):
        stretched(np.ones((1, RATE), np.float32), length, semitones)


# clips in a song ---------------------------------------------------------------------------------------------------


def test_a_loop_sounds_as_it_was_recorded_at_its_own_tempo(kept):
    song, layer = laid()
    sound, (_, audio) = played(song, layer), known_sample()
    n = audio.shape[1]
    for low in range(0, sound.shape[1] - n + 1, n):
        assert np.abs(sound[0, low : low + n] - audio[0]).max() < 2e-4


@pytest.mark.parametrize("at", ["onsets", "1/8"])
def test_slices_put_back_together_are_the_original(kept, at):
    song, layer = laid()
    whole = played(song, layer)
    sliced = EDITS["slice_clip"](layer, 0, at).apply(song)
    apart = np.abs(whole - played(sliced, layer)).max(axis=0)
    seams = layer_events(sliced, timeline(sliced).span_of(V), sliced.layer_by_id[layer]).table[:, START] * RATE // 1920
    away = np.ones(len(apart), bool)
    for seam in seams.tolist():
        away[max(0, seam - 150) : seam + 150] = False
    top = np.abs(whole).max()
    assert 20 * np.log10(apart[away].max() / top + 1e-9) < -80
    assert 20 * np.log10(apart.max() / top + 1e-9) < -50  # and a seam takes over with hardly a trace


def test_a_fitted_loop_ends_on_the_grid(kept):
    """At another tempo its last onset lies within 10 ms of where it belongs."""
    for tempo in (97.0, 128.0, 141.0):
        song = EDITS["lay_sample"](plain_sample(), V).apply(replace(SONG, tempo_bpm=tempo))
        layer = max(x.id for x in song.layers if x.clips)
        bar = played(song, layer)[:, : round(8 * 60 / tempo * RATE)]
        onsets = [o.at_s for o in read_recording([bar], RATE, 2).onsets]
        last = 7.5 * 60 / tempo  # the last hat of two bars
        assert min(abs(o - last) for o in onsets) < 0.010


def test_a_tile_that_begins_in_the_middle_plays_from_the_middle(kept):
    song, layer = laid()
    late = EDITS["lift"](V, layer, None, 0, 3840).apply(song)
    table = layer_events(late, timeline(late).span_of(V), late.layer_by_id[layer]).table
    assert table[0, [START, CLIP_OF, SKIP]].tolist() == [3840, 0, 3840]
    whole, part = played(song, layer), played(late, layer)
    bar = 2 * RATE
    assert not part[:, : bar - 200].any()
    assert np.abs(whole[:, bar + 200 : 4 * bar] - part[:, bar + 200 : 4 * bar]).max() < 1e-6


def test_thinning_cuts_it_where_something_begins(kept):
    song, layer = laid()
    thin = EDITS["vary"](V, layer, 0, keep=0.5).apply(song)
    table = layer_events(thin, timeline(thin).span_of(V), thin.layer_by_id[layer]).table
    assert 6 < len(table[table[:, START] < 4 * 3840]) < 24
    loud = [np.mean(played(s, layer)[:, : 8 * RATE] ** 2) for s in (song, thin)]
    assert 0.15 < loud[1] / loud[0] < 0.9


def test_reversed_and_reversed_again_is_the_same(kept):
    song, layer = laid()
    back = EDITS["set_clip"](layer, 0, {"reversed": True}).apply(song)
    (_, audio), sound = known_sample(), played(back, layer)
    n = audio.shape[1]
    assert np.abs(sound[0, :n] - audio[0, ::-1]).max() < 2e-4


def test_a_loop_a_beat_short_is_mended_in_each_way(kept):
    song, layer = laid(short_beats=1.0, name="Short beat")
    (_, audio), beat = known_sample(short_beats=1.0, name="Short beat"), RATE // 2
    lengths = {}
    for way in ("stretch", "repeat tail", "gap", "trim"):
        sound = played(EDITS["mend_clip"](layer, 0, way).apply(song), layer)
        bars = 1 if way == "trim" else 2
        period = bars * 4 * beat
        lengths[way] = np.abs(sound[:, 3 * period : 4 * period] - sound[:, period : 2 * period]).max()
        last = np.sqrt(np.mean(sound[0, period - beat : period - 300] ** 2))
        assert (last < 1e-4) == (way == "gap")
        if way == "repeat tail":
            assert (
                np.abs(sound[0, period - beat + 400 : period - 300] - audio[0, 6 * beat + 400 : 7 * beat - 300]).max()
                < 2e-4
            )
    assert max(lengths.values()) < 2e-3  # every way goes round in whole bars


def test_what_is_missing_is_played_by_its_reading_and_comes_back(kept):
    song, layer = laid()
    renderer = Renderer(100)
    real = played(song, layer, renderer)
    file = kept / f"{known_sample()[0].content}.flac"
    aside = file.rename(file.with_suffix(".away"))
    library.changed()
    stand_in = played(song, layer, renderer)
    aside.rename(file)
    library.changed()
    assert np.array_equal(played(song, layer, renderer), real)
    level = [10 * np.log10(np.mean(x[:, : 8 * RATE] ** 2)) for x in (real, stand_in)]
    assert abs(level[0] - level[1]) < 3 and not np.array_equal(real, stand_in)


def test_the_same_song_gives_the_same_bytes(kept):
    song, layer = laid(kind="chords", tempo=96.0, bars=4)
    song = replace(song, tempo_bpm=108.0)
    assert np.array_equal(played(song, layer), played(song, layer))


def test_a_key_change_moves_a_part_and_no_beat(kept):
    song, layer = laid(kind="chords", tempo=96.0, bars=4)
    beat, drums = laid()
    for made, id, moves in ((song, layer, True), (beat, drums, False)):
        up = EDITS["shift_section"](V, 2).apply(made)
        assert np.allclose(played(made, id), played(up, id), atol=1e-4) != moves


# energy ------------------------------------------------------------------------------------------------------------


def brought_back(song, layer_id, renderer):
    """The song with a layer played by recordings of itself, one a section."""
    layer, clips, samples = song.layer_by_id[layer_id], [], []
    after = song
    for span in timeline(song).spans:
        part = next((p for p in renderer.plan(song, span).parts if p.layer_id == layer_id), None)
        section = after.section_by_id[span.section.id]
        rest = [p for p in section.placements if p.layer_id != layer_id]
        if part is not None:
            unit, n = renderer.unit(part), round(span.length_seconds * RATE)
            audio = np.zeros((len(unit.audio), n), np.float32)
            low, high = max(0, unit.offset), min(n, unit.end)
            audio[:, low:high] = unit.audio[:, low - unit.offset : high - unit.offset]
            content = f"{len(clips):032x}"
            samples.append(sample_of(content, "Print", read_recording([audio], RATE, len(audio))))
            clips.append(Clip(content, 0.0, n / RATE, span.length_ticks / 960, "alone"))
            row = [[0, span.length_ticks, CLIP, len(clips) - 1, 0, 100]]
            after, pattern = add_pattern(after, "Print", layer.family, Pattern(span.length_ticks, row))
            rest.append(Placement(after.next_id, layer_id, pattern, 0, span.length_ticks))
            after = replace(after, next_id=after.next_id + 1)
        after = after.with_section(replace(section, placements=ordered(rest)))
    sound = "recorded-beat" if layer.family == "drums" else "recorded-part"
    bare = dict(settings=(), devices=(), stack=(), lowpass_hz=20_000.0, highpass_hz=20.0, octave=0, sound_key=sound)
    return replace(after.with_layer(replace(layer, **bare, clips=tuple(clips))), samples=tuple(samples))


def test_a_printed_layer_that_comes_back_as_a_recording_has_the_same_energy(demos):
    """Pads that swell to themselves differ most: their bands are measured now, where the palette's table is within 3 dB."""
    renderer, off = Renderer(200), {}
    for song in demos:
        before = np.array([s.value for s in arranged(song).sections])
        for layer in song.layers:
            if not (layer.muted or layer.prints or layer.devices) and layer.id % 3 == 0:
                after = arranged(brought_back(song, layer.id, renderer)).sections
                off[song.title, layer.name] = float(np.abs(np.array([s.value for s in after]) - before).max())
    assert len(off) >= 8
    assert np.percentile(list(off.values()), 90) < 0.2 and max(off.values()) < 0.35, off


# whatever edits can reach ------------------------------------------------------------------------------------------

STEPS = st.lists(
    st.one_of(
        st.builds(lambda at: ("slice_clip", dict(number=0, at=at)), st.sampled_from(["onsets", "1/4", "1/8"])),
        st.builds(lambda n, k: ("set_clip", dict(number=n, values=k)), st.integers(0, 3), st.sampled_from([{"semitones": 3}, {"reversed": True}, {"fit": "slices"}, {"beats": 6}, {"start_s": 0.5}])),
        st.builds(lambda w: ("mend_clip", dict(way=w)), st.sampled_from(["stretch", "repeat tail", "gap", "trim"])),
        st.builds(lambda t: ("play_speed", dict(times=t)), st.sampled_from([0.5, 2.0])),
        st.just(("exchange_sample", dict(sample=plain_sample(tempo=100.0, bars=1)))),
        st.builds(lambda s, k: ("shift_section", dict(section_id=s, semitones=k)), st.just(V), st.integers(-3, 3)),
        st.just(("duplicate_section", dict(section_id=V))),
        st.just(("set_key", dict(key="D minor"))),
        st.just(("vary", dict(section_id=V, phrase=0, keep=0.5))),
        st.just(("lift", dict(section_id=V, phrase=1))),
    ),
    max_size=7,
)  # fmt: skip


@given(STEPS)
def test_every_state_of_a_recorded_layer_survives_a_file_and_can_be_heard(steps):
    song, layer = laid()
    for kind, fields in steps:
        on_layer = {} if kind in ("shift_section", "duplicate_section", "set_key") else {"layer_id": layer}
        try:
            song = EDITS[kind](**on_layer, **fields).apply(song)
        except EscaleraError as error:
            assert str(error).endswith(".")
    assert read_project(write_project(song)) == song
    assert np.isfinite(arranged(song).sections[0].value)
    for span in timeline(song).spans:
        table = layer_events(song, span, song.layer_by_id[layer]).table
        assert (table[:, CLIP_OF] < len(song.layer_by_id[layer].clips) + 256).all()


# beside the song's own drums ------------------------------------------------------------------------------------------


def beside_drums(late_ms=0.0):
    """A beat laid on kicks and snares that play the same, so many milliseconds late."""
    song = EDITS["take_beat"](
        V,
        0,
        "Same",
        3840,
        [[0, "kick", 100], [1680, "kick", 90], [1920, "kick", 100], [960, "snare", 100], [2880, "snare", 100]],
        whole=True,
    ).apply(replace(SONG, tempo_bpm=120.0))
    song = EDITS["lay_sample"](plain_sample(), V).apply(song)
    layer = max(x.id for x in song.layers if x.clips)
    return EDITS["set_value"](f"layer.{layer}.delay_ms", late_ms).apply(song), layer


def test_a_loop_is_compared_with_the_drums_it_lies_on():
    song, layer = beside_drums()
    found = loop_timing(song, timeline(song).span_of(V), song.layer_by_id[layer])
    assert found.strokes >= 20 and abs(found.late_ms) < 3 and found.kicks_together >= 20 and not found.flams
    assert any("may cancel" in line for line in found.said)
    late, layer = beside_drums(20.0)
    found = loop_timing(late, timeline(late).span_of(V), late.layer_by_id[layer])
    assert found.late_ms == pytest.approx(20, abs=3) and found.flams >= 20 and not found.kicks_together
    assert "20 ms after" in found.said[0] or "19 ms after" in found.said[0]
    quiet = EDITS["mute_kicks"](layer).apply(song)
    assert not loop_timing(quiet, timeline(quiet).span_of(V), quiet.layer_by_id[layer]).kicks_together
    assert loop_timing(song, timeline(song).spans[1], song.layer_by_id[layer]) is None


def test_swing_is_read_from_strokes_between_the_beats():
    straight, swung = np.arange(0, 7680, 480), np.array([t + (t // 480 % 2) * 160 for t in range(0, 7680, 480)])
    assert swing_of_ticks(straight) == 0.5 and swing_of_ticks(swung) == pytest.approx(0.667, abs=0.001)
    assert swing_of_ticks(np.arange(0, 7680, 960)) is None


def test_a_key_change_says_what_recordings_do():
    song, part = laid(kind="chords", tempo=96.0, bars=4)
    song = EDITS["lay_sample"](plain_sample(), V).apply(song)
    for semitones, heard in ((1, False), (7, True)):
        plan = {t.layer.id: t for t in key_change_plan(song, [song.section_by_id[V]], semitones) if t.layer.clips}
        assert "keeps its pitch" in next(t.said for i, t in plan.items() if i != part)
        assert plan[part].by_hand == (heard or abs(plan[part].layer.clips[0].semitones + semitones) > 4)


def test_a_fill_lies_at_the_end_of_a_phrase(kept):
    song = EDITS["lay_sample"](plain_sample(tempo=100.0, bars=1), V, "fill", phrase=0).apply(
        replace(SONG, tempo_bpm=100.0)
    )
    layer = max(x.id for x in song.layers if x.clips)
    table = layer_events(song, timeline(song).span_of(V), song.layer_by_id[layer]).table
    assert table[:, [START, CLIP_OF, SKIP]].tolist() == [[3 * 3840, 0, 0]]


def test_a_single_note_goes_along_with_the_chords(kept):
    audio = (0.5 * tone(45, 2.0, ring=0.5))[None].astype(np.float32)
    sample = sample_of("e" * 32, "Low A", read_recording([audio], RATE, 1))
    song = EDITS["lay_sample"](asdict(sample), V, "note", "low end").apply(SONG)
    layer = next(x for x in song.layers if x.clips)
    span = timeline(song).span_of(V)
    pitches = layer_events(song, span, layer).table[:, PITCH]
    roots = [section_harmony(song, span).at(int(t)).root_class for t in layer_events(song, span, layer).table[:, START]]
    assert (pitches % 12).tolist() == roots and abs(np.median(pitches) - 45) <= 7


def kept_sound(folder, audio, content, **reading):
    """A sound made known to the renderer, as a song keeps it."""
    audio = np.rint(audio * 8_388_607.0).astype(np.int32).astype(np.float32) / 8_388_607.0
    writer = RecordingWriter(folder / f"{content}.flac", len(audio))
    writer.write(audio)
    writer.finish()
    library.changed()
    return replace(sample_of(content, content[:6], read_recording([audio], RATE, len(audio))), **reading), audio


def test_a_drums_hit_sounds_as_it_was_recorded_alone_and_stacked(kept):
    sample, knock = kept_sound(kept, (0.4 * tone(64, 0.4, ring=0.1))[None], "a1" * 16, kind="hit", pitch_hz=0.0)
    song = EDITS["lay_sample"](asdict(sample), V, "hit", "drums", "snare", in_place=False).apply(SONG)
    hit = max(x.id for x in song.layers if x.clips)
    stacked = EDITS["stack_sample"](SONG.layers[0].id, asdict(sample)).apply(SONG)
    alone = played(song, hit)[0, :8000]
    assert np.argmax(np.abs(np.fft.rfft(alone))) == pytest.approx(
        np.argmax(np.abs(np.fft.rfft(knock[0, :8000]))), abs=1
    )
    layer = next(x for x in stacked.layers if x.stack)
    start = int(layer_events(stacked, timeline(stacked).span_of(V), layer).table[0, START])
    at = round(float(timeline(stacked).span_of(V).grid.seconds_of(np.array([start]))[0]) * RATE)
    more = played(stacked, layer.id)[0, at : at + 8000] - played(SONG, layer.id)[0, at : at + 8000]
    assert np.corrcoef(more, knock[0, :8000])[0, 1] > 0.97
    assert read_project(write_project(stacked)) == stacked
    lost = replace(stacked, samples=())
    with pytest.raises(InputError, match="does not know"):
        read_project(write_project(lost))


@pytest.mark.parametrize("glide", [0.0, 80.0])
def test_held_notes_of_a_recording_go_round_and_glide(kept, glide):
    sample, _ = kept_sound(kept, (0.4 * tone(57, 0.6, ring=0.0))[None], "b2" * 16, kind="hit", pitch_hz=220.0)
    song = EDITS["lay_sample"](asdict(sample), V, "note", "leads", in_place=False).apply(SONG)
    layer = next(x for x in song.layers if x.clips)
    short = np.abs(played(song, layer.id)[0]).reshape(-1)[RATE : RATE + 4000].max()
    song = EDITS["set_clip"](layer.id, 0, {"plays": "round", "glide_ms": glide}).apply(song)
    held = played(song, layer.id)[0]
    assert short < 0.01 and np.abs(held[RATE : RATE + 4000]).max() > 0.1, "it sounds on where the recording has ended"
    steps = np.abs(np.diff(held[2000 : 2 * RATE - 3000]))
    assert steps.max() < 1.6 * steps[:6000].max(), "no click where it goes round"
    span = timeline(song).span_of(V)
    table = layer_events(song, span, song.layer_by_id[layer.id]).table
    second = next(i for i in range(1, len(table)) if table[i, PITCH] != table[0, PITCH])
    at = round(float(span.grid.seconds_of(table[second : second + 1, START])[0]) * RATE)

    def pitch(low, high):
        part = held[low:high] * np.hanning(high - low)
        return 69 + 12 * np.log2(np.argmax(np.abs(np.fft.rfft(part, 1 << 18))) * RATE / (1 << 18) / 440)

    assert pitch(at + 8000, at + 24000) == pytest.approx(table[second, PITCH], abs=0.15)
    early = pitch(at + 200, at + 2600) if glide else pitch(at + 3000, at + 8000)
    assert (abs(early - table[second, PITCH]) > 0.4) == bool(glide)


def test_a_one_shot_sounds_to_its_end_whatever_its_note_and_a_voice_keeps_its_formants(kept):
    sample, _ = kept_sound(kept, vowel()[:, : round(1.2 * RATE)], "d4" * 16, kind="hit", pitch_hz=220.0)
    song = EDITS["lay_sample"](asdict(sample), V, "note", "leads", in_place=False).apply(SONG)
    layer = next(x for x in song.layers if x.clips)
    short = Pattern(3840, [[0, 240, 0, 64, 0, 100]])
    song = song.with_section(song.section_by_id[V])
    song = replace(
        song, patterns=tuple(replace(p, pattern=short) if p.id == layer.pattern_id else p for p in song.patterns)
    )
    whole = EDITS["set_clip"](layer.id, 0, {"plays": "whole"}).apply(song)
    for played_song, there in ((song, False), (whole, True)):
        assert (np.abs(played(played_song, layer.id)[0, RATE // 2 : RATE]).max() > 0.02) == there
    own = centroid(vowel()[:, :RATE])
    for formants, near in ((False, False), (True, True)):
        sung = EDITS["set_clip"](layer.id, 0, {"formants": formants}).apply(whole)
        moved = centroid(played(sung, layer.id)[:1, :RATE])
        assert (abs(moved / own - 1) < 0.12) == near, "an E over the A it was sung at"


def test_a_slowing_ending_keeps_its_timing_and_gives_it_to_the_song(kept):
    tempo, beats = 120.0, [0.0]
    for i in range(8):
        beats.append(beats[-1] + 60 / tempo * 1.07**i)
    audio = np.zeros(round((beats[-1] + 1.0) * RATE))
    for beat, following in zip(beats, [*beats[1:], None]):
        put(audio, beat, kick(np.random.default_rng(1)), 0.8)
        if following:
            put(audio, (beat + following) / 2, hat(np.random.default_rng(2)), 0.3)
    ending, _ = kept_sound(kept, audio[None] * 0.5, "c3" * 16)
    followed = beats_followed(ending.onset_rows, tempo, ending.seconds)
    assert followed[: len(beats)] == pytest.approx(beats, abs=0.012) and slows(followed)
    assert not slows(beats_followed(known_sample()[0].onset_rows, 120.0, 4.0))
    members = [{"part": "verse", "sample": plain_sample()}, {"part": "ending", "sample": asdict(ending)}]
    song = EDITS["lay_family"]("Kit", members).apply(replace(SONG, tempo_bpm=100.0))
    layer, last = next(x for x in song.layers if x.clips), song.sections[-1]
    begins = max(p.start_ticks for p in last.placements if p.layer_id == layer.id)
    grid = timeline(song).span_of(last.id).grid
    seconds = grid.seconds_of(begins + np.arange(len(beats)) * 960) - grid.seconds_of(np.array([begins]))
    assert seconds == pytest.approx(np.array(beats) * 1.2, abs=0.03)
    spans = spans_of(layer_events(song, timeline(song).span_of(last.id), layer), clip_sounds(song, layer), grid, True)
    strokes = grid.seconds_of(spans.onset_table[:, START]) - grid.seconds_of(np.array([begins]))
    off = [np.abs(strokes - b).min() for b in seconds]
    assert max(off) < 0.03, "its strokes lie on the beats that the song has taken over"

"""One row an effect: what it does to a known sound, and how it leaves the sound alone at rest."""

import numpy as np
import pytest

from escalera.core.edits import EDITS
from escalera.core.energy.chain import equaliser_power
from escalera.core.moves.texture_moves import WIDE
from escalera.core.palette.effects import EFFECT_BY_KEY, EFFECTS, RETURNS
from escalera.core.palette.parameters import with_setting
from escalera.core.palette.profiles import width_of
from escalera.core.palette.sounds import SOUNDS
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError
from escalera.sound.effect_processes import PROCESSES
from escalera.sound.effect_stage import Stage
from escalera.sound.mix import Renderer
from escalera.sound.probe import notes_of, play_notes
from escalera.sound.schedule import RATE_HZ
from tests.songs import ids, small_song

QUARTER = 22_050.0  # 120 bpm
SONG = small_song()
NAME = ids(SONG)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))


def settings_of(key, **values):
    found = ()
    for name, value in values.items():
        found = with_setting(found, EFFECT_BY_KEY[key].parameter_by_key[name], value)
    return found


def through(key, audio, offset=0, **values):
    audio = np.atleast_2d(audio).astype(np.float32).copy()
    stage = Stage(key, settings_of(key, **values), offset, audio.shape[1], QUARTER)
    return PROCESSES[key].process(audio, stage)


def tone(hz, seconds=2.0, level=0.5):
    return level * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE_HZ)) / RATE_HZ)


def click(seconds=4.0, at=0):
    audio = np.zeros(round(seconds * RATE_HZ))
    audio[at] = 1.0
    return audio


def level_db(audio, hz):
    t = np.arange(audio.shape[-1]) / RATE_HZ
    return 20 * np.log10(abs(np.mean(np.atleast_2d(audio)[0] * np.exp(-2j * np.pi * hz * t))) * 2 + 1e-12)


def loudest_hz(audio, low=20.0):
    spectrum = np.abs(np.fft.rfft(np.atleast_2d(audio)[0] * np.hanning(audio.shape[-1]), 1 << 19))
    hz = np.fft.rfftfreq(1 << 19, 1 / RATE_HZ)
    return hz[np.argmax(np.where(hz > low, spectrum, 0))]


def rms(audio):
    return np.sqrt(np.mean(np.square(audio), axis=-1))


def moving_filter():
    """Bright in the middle of every cycle, dark at its ends; triplets cycle three times in two beats."""
    noise = np.random.default_rng(1).standard_normal(8 * 22_050) * 0.1
    beats = (
        through("moving-filter", noise, low_hz=200, high_hz=9000, rate_beats=1.0)[0]
        .reshape(8, -1)[:, :22_048]
        .reshape(8, 4, -1)
    )
    assert (rms(beats[:, 1]) > 1.5 * rms(beats[:, 0])).all()
    triplets = through("moving-filter", noise, low_hz=200, high_hz=9000, rate_beats=2 / 3)[0]
    envelope = rms(triplets.reshape(-1, 294))
    spectrum = np.abs(np.fft.rfft(envelope - envelope.mean()))
    assert np.argmax(spectrum) == 12, "twelve cycles in eight beats"


def gate():
    steps = np.abs(through("gate", np.ones(16 * 5512), steps=0b0000000000000101, edge_ms=1)[0]).reshape(16, -1)
    open_steps = [i for i, s in enumerate(steps) if s[600:-600].mean() > 0.99]
    assert open_steps == [0, 2] and max(steps[i][600:-600].max() for i in range(16) if i not in (0, 2)) == 0.0


def drive():
    out = through("drive", tone(200), amount=0.8)
    assert level_db(out, 600) > -30 > level_db(tone(200), 600) and level_db(out, 400) < -70, "odd harmonics only"
    assert abs(out.mean()) < 1e-3


def band_drive():
    both = tone(60, level=0.3) + tone(1000, level=0.3)
    out = through("band-drive", both, low=0, mid=0.9, high=0)
    assert level_db(out, 3000) > -40 and level_db(out, 180) < level_db(out, 3000) - 6


def compressor():
    loud = np.concatenate((tone(300, 1.0, 0.05), tone(300, 1.0, 0.9), tone(300, 1.0, 0.05)))
    out = through("compressor", loud, threshold_db=-20, ratio=8, attack_ms=5, release_ms=100)
    before, after = (rms(x.reshape(3, -1)[:, 20_000:40_000]) for x in (loud, out[0]))
    assert after[1] < 0.3 * before[1] and np.allclose(after[[0, 2]], before[[0, 2]], rtol=0.02)


def echo():
    out = through("echo", click(), time_beats=0.75, feedback=0.5, low_hz=20, high_hz=20000, mix=1.0)
    delay = round(0.75 * QUARTER)
    left, right = (np.flatnonzero(np.abs(side[100:]) > 0.1)[0] + 100 for side in out)
    assert abs(left - delay) <= 1 and abs(right - 2 * delay) <= 1
    ducked = through("echo", tone(500, 2.0, 0.8), duck=1.0, mix=1.0) - tone(500, 2.0, 0.8)
    free = through("echo", tone(500, 2.0, 0.8), duck=0.0, mix=1.0) - tone(500, 2.0, 0.8)
    assert rms(ducked).max() < 0.3 * rms(free).max()


def room():
    decays = []
    for kind, decay in ((0, 0.4), (1, 1.0), (2, 2.0)):
        out = through("room", click(), kind=kind, decay_s=decay, damping=0.1, mix=1.0)
        power = np.cumsum(np.square(out).sum(axis=0)[::-1])[::-1]
        fall = 10 * np.log10(power[2000:] / power[2000] + 1e-12)
        decays.append(np.argmax(fall < -30) * 2 / RATE_HZ)
    assert decays[0] < decays[1] < decays[2] and decays[2] == pytest.approx(2.0, rel=0.3)
    assert (
        level_db(through("room", tone(400), kind=3, mix=1.0), 800)
        > level_db(through("room", tone(400), kind=2, mix=1.0), 800) + 20
    )


def widen():
    left, right = np.random.default_rng(2).standard_normal((2, 40_000)) * 0.1
    narrow, wide = (through("widen", np.stack((left, right)), amount=a) for a in (0.0, 2.0))
    assert rms(narrow[0] - narrow[1]) < 0.2 * rms(left - right) < rms(wide[0] - wide[1])
    from_mono = through("widen", left, amount=1.5)
    assert rms(from_mono[0] - from_mono[1]) > 0.02 and np.allclose(from_mono.sum(axis=0) / 2, left, atol=1e-5), (
        "mono is kept"
    )


def double():
    out = through("double", click(0.5, 100), apart_ms=20, detune_cents=0)
    left, right = (np.flatnonzero(np.abs(side[150:]) > 0.2)[0] + 150 for side in out)
    assert right - left == pytest.approx(0.020 * RATE_HZ, abs=3)


def scatter():
    song = EDITS["add_effect"](f"layer.{K}", "scatter").apply(SONG)
    line = timeline(song)
    part = next(p for p in Renderer(50).plan(song, line.spans[0]).parts if p.layer_id == K)
    hits = Renderer(50).unit(part).audio[:, : 16 * 22_050].reshape(2, 16, -1)
    leans, power = rms(hits[0]) / rms(hits[1]), (rms(hits) ** 2).sum(axis=0)
    assert len(np.unique(leans.round(3))) > 8 and power.std() < 0.03 * power.mean(), "constant power"


def auto_pan():
    sides = rms(through("auto-pan", tone(500, 4.0), rate_beats=4, depth=1.0).reshape(2, 16, -1))
    assert (
        sides[0].argmax() in (0, 15, 8, 7)
        and sides[1].argmax() in (3, 4, 11, 12)
        and np.allclose((sides**2).sum(axis=0), 0.25, rtol=0.05)
    )


def reverse():
    out = through("reverse", click(2.0, 1000), span_beats=4)
    assert np.argmax(np.abs(out[0])) == 88_200 - 1 - 1000


def half_speed():
    assert loudest_hz(through("half-speed", tone(880, 2.0), span_beats=4)) == pytest.approx(440, rel=0.002)


def pitch():
    for semitones in (-12, 5, 12):
        out = through("pitch", tone(330, 3.0), semitones=semitones)
        assert 1200 * abs(np.log2(loudest_hz(out) / (330 * 2 ** (semitones / 12)))) < 3, semitones


def equaliser():
    """As it is drawn, at every third octave, whatever stands where."""
    values = dict(
        low_hz=90,
        low_db=6,
        low_bell_hz=350,
        low_bell_db=-9,
        high_bell_hz=2500,
        high_bell_db=4,
        high_hz=8000,
        high_db=-12,
        narrowness=2,
    )
    hz = np.geomspace(40, 9_000, 18)
    parameters = EFFECT_BY_KEY["equaliser"].parameter_by_key
    drawn = 10 * np.log10(equaliser_power(lambda name: values.get(name, parameters[name].default), hz))
    out = through("equaliser", click(3.0, 1000), **values)[0]
    spectrum, grid = np.abs(np.fft.rfft(out)), np.fft.rfftfreq(len(out), 1 / RATE_HZ)
    return 20 * np.log10(np.interp(hz, grid, spectrum)) == pytest.approx(drawn, abs=0.8)


def de_esser():
    vowel, hiss = tone(300, 1.0, 0.4), tone(8000, 1.0, 0.4)
    out = [through("de-esser", x, threshold_db=-30, most_db=12) for x in (vowel, hiss)]
    left = [20 * np.log10(rms(o[0][4000:]) / rms(x[4000:])) for o, x in zip(out, (vowel, hiss))]
    return abs(left[0]) < 0.3 and -12.5 < left[1] < -8


def transient():
    struck = np.tile(np.exp(-np.arange(11_025) / 1800) * tone(900, 0.25, 0.5), 8)

    def shape(**values):
        hits = np.abs(through("transient", struck, **values)[0]).reshape(8, -1)[2:]
        return hits[:, :600].max(), rms(hits[:, 4000:]).mean()

    (front, behind), (hard, _), (soft, _), (_, long) = (
        shape(attack=0),
        shape(attack=0.6),
        shape(attack=-0.6),
        shape(attack=0, sustain=0.6),
    )
    return hard > 1.3 * front and soft < 0.8 * front and long > 1.4 * behind


def chorus():
    out = through("chorus", tone(440, 3.0, 0.3), mix=1.0, depth_ms=4)
    sides = out[0] - out[1]
    return rms(sides) > 0.2 * rms(out.sum(axis=0)) and loudest_hz(out) == pytest.approx(440, rel=0.01)


def worn_tape():
    noise = np.random.default_rng(5).standard_normal(60_000) * 0.1
    worn, new = (through("worn-tape", noise, wear=w, drift=0, flutter=0, push=0)[0] for w in (1.0, 0.0))
    high = [np.square(np.abs(np.fft.rfft(x))[len(x) // 4 :]).sum() for x in (worn, new)]
    steady, drifting = (
        through("worn-tape", tone(1000, 4.0), drift=d, flutter=0, wear=0, push=0)[0] for d in (0.0, 1.0)
    )
    spread = [
        np.sort(np.abs(np.fft.rfft(x * np.hanning(len(x)))))[-8:-4].sum()
        / np.abs(np.fft.rfft(x * np.hanning(len(x)))).max()
        for x in (steady, drifting)
    ]
    return high[0] < 0.2 * high[1] and spread[1] > 2 * spread[0]


def matched_compressor():
    """On a beat the compressor that a drum begins with takes two decibels of crest or more, and is as loud as before."""
    rows = [(0.25 * i, 0.2, 60) for i in range(16)]
    for sound in [s for s in SOUNDS if s.is_drum and s.drum in ("kick", "snare", "clap", "low tom", "low hand drum")]:
        audio = play_notes(sound.key, notes_of(rows, sound.key))
        song = EDITS["add_layer"](sound.key).apply(SONG)
        layer = max(song.layers, key=lambda x: x.id)
        song = EDITS["add_effect"](f"layer.{layer.id}", "compressor").apply(song)
        settings = song.layer_by_id[layer.id].devices[0].settings
        out = PROCESSES["compressor"].process(audio.copy(), Stage("compressor", settings, 0, audio.shape[1], QUARTER))
        crest = [np.abs(x).max() / rms(x.ravel()) for x in (audio, out)]
        assert rms(out.ravel()) == pytest.approx(rms(audio.ravel()), rel=0.01)
        assert 20 * np.log10(crest[0] / crest[1]) >= (2.0 if crest[0] > 2.5 else 0.9), (sound.key, crest)


def both_compressors():
    matched_compressor()
    compressor()


def resonators():
    """A click rings at the notes of its strings, for as long as is asked; a string that moves sounds at its new note."""
    ringing = through(
        "resonators", click(3.0), note_1=45, note_2=57, note_3=64, note_4=69, ring_s=2.0, damping=0.2, mix=1
    )[0]
    spectrum = np.abs(np.fft.rfft(ringing[2000:90_000] * np.hanning(88_000), 1 << 18))
    for note in (45, 57, 64, 69):
        hz = 440 * 2 ** ((note - 69) / 12)
        low, high = (round(hz * 2 ** (c / 1200) * (1 << 18) / RATE_HZ) for c in (-40, 40))
        peak = low + int(np.argmax(spectrum[low : high + 1]))
        assert abs(1200 * np.log2(peak * RATE_HZ / (1 << 18) / hz)) < 8 and spectrum[peak] > 20 * np.median(
            spectrum[:8000]
        )
    short = through("resonators", click(3.0), note_1=57, note_2=57, note_3=57, note_4=57, ring_s=0.3, mix=1)[0]
    assert rms(short[30_000:60_000]) < 0.01 * rms(short[:10_000])
    song = EDITS["add_effect"](f"layer.{P}", "resonators").apply(SONG)
    tuned = EDITS["tune_resonators"](P, song.layer_by_id[P].devices[0].id).apply(song)
    curves = {c.lane.rsplit(".", 1)[1]: [p[1] for p in c.points] for s in tuned.sections for c in s.curves}
    assert [row % 12 for row in curves["note_1"]][:4] == [0, 9, 5, 7] and curves["note_2"][:2] == [52, 60]


SHOWN = {
    "resonators": resonators,
    "equaliser": equaliser, "de-esser": de_esser, "transient": transient, "chorus": chorus, "worn-tape": worn_tape,
    "low-pass": lambda: [level_db(through("low-pass", tone(hz), cutoff_hz=1000, resonance=0), hz) - level_db(tone(hz), hz) for hz in (100, 4000)] == pytest.approx([0, -24.2], abs=0.5),
    "high-pass": lambda: [level_db(through("high-pass", tone(hz), cutoff_hz=1000, resonance=0), hz) - level_db(tone(hz), hz) for hz in (250, 8000)] == pytest.approx([-24.2, 0], abs=0.5),
    "band-pass": lambda: [level_db(through("band-pass", tone(hz), cutoff_hz=1000, resonance=0.5), hz) - level_db(tone(hz), hz) for hz in (1000, 200)] == pytest.approx([0, -16.4], abs=1.0),
    "moving-filter": moving_filter, "gate": gate, "drive": drive, "band-drive": band_drive, "compressor": both_compressors, "echo": echo,
    "room": room, "widen": widen, "double": double, "scatter": scatter, "auto-pan": auto_pan, "reverse": reverse,
    "half-speed": half_speed, "pitch": pitch,
}  # fmt: skip
# settings at which an effect leaves a sound as it is
AT_REST = {
    "resonators": dict(mix=0),
    "equaliser": {}, "de-esser": dict(most_db=0), "transient": dict(attack=0, sustain=0), "chorus": dict(mix=0), "worn-tape": None,
    "low-pass": dict(cutoff_hz=20_000, resonance=0), "high-pass": dict(cutoff_hz=20, resonance=0), "band-pass": None,
    "moving-filter": dict(low_hz=20_000, high_hz=20_000, resonance=0), "gate": dict(depth=0), "drive": dict(mix=0, tone_hz=20_000),
    "band-drive": None, "compressor": dict(mix=0), "echo": dict(mix=0), "room": dict(mix=0), "widen": dict(amount=1, mono_below_hz=20),
    "double": dict(mix=0), "scatter": {}, "auto-pan": dict(depth=0), "reverse": None, "half-speed": dict(mix=0), "pitch": dict(semitones=0),
}  # fmt: skip


@pytest.mark.parametrize("key", EFFECT_BY_KEY)
def test_an_effect_does_what_its_name_says(key):
    assert SHOWN[key]() is not False


@pytest.mark.parametrize("key", EFFECT_BY_KEY)
def test_an_effect_at_rest_leaves_the_sound_and_silence_stays_silent(key):
    assert set(PROCESSES) == set(EFFECT_BY_KEY) == set(AT_REST)
    if AT_REST[key] is not None:
        stereo = np.stack((tone(500, 1.0), tone(700, 1.0)))
        assert np.allclose(rms(through(key, stereo, **AT_REST[key])[:, 400:]), rms(stereo[:, 400:]), rtol=0.02), key
    silent = through(key, np.zeros((2, 30_000)))
    assert np.abs(silent).max() < 1e-9


@pytest.mark.parametrize("key", EFFECT_BY_KEY)
def test_every_parameter_of_an_effect_is_safe_over_its_whole_range(key):
    noise = np.random.default_rng(3).standard_normal((2, 20_000)) * 0.3
    for p in EFFECT_BY_KEY[key].parameters:
        for value in (p.low, p.high):
            out = through(key, noise, **{p.key: value})
            assert np.isfinite(out).all() and np.abs(out).max() < 30, (p.key, value)


@pytest.mark.parametrize("key", [e.key for e in EFFECTS])
def test_an_effect_is_heard_on_a_layer_and_wherever_else_it_may_stand(key):
    line = timeline(SONG)
    before = Renderer(50).chunk_keys(SONG, line)
    for scope, owner in (("layer", f"layer.{P}"), ("bus", "bus.chords"), ("master", "master")):
        if scope in EFFECT_BY_KEY[key].where:
            song = EDITS["add_effect"](owner, key).apply(SONG)
            renderer = Renderer(100)
            changed = renderer.render(song)
            assert np.isfinite(changed).all() and np.abs(changed).max() <= 1.0
            assert renderer.chunk_keys(song, timeline(song))[1] != before[1], (key, scope)
        else:
            with pytest.raises(EditError, match="works on"):
                EDITS["add_effect"](owner, key).apply(SONG)


def only_pad(song):
    for layer in (K, B):
        song = EDITS["set_muted"](layer, True).apply(song)
    return song


@pytest.mark.parametrize("row", RETURNS, ids=lambda r: r.key)
def test_a_shared_space_answers_what_is_sent_to_it_and_only_that(row):
    def tail_of(song):
        line = timeline(song)
        end = line.samples(RATE_HZ)[-1]
        return np.abs(Renderer(60).before_master(song, line, end + 35_000, end + 60_000)).max()

    dry = only_pad(SONG)
    sent = EDITS["set_control"](P, row.send, 0).apply(dry)
    assert tail_of(sent) > 1e-5 > tail_of(dry)


def test_a_throw_sends_one_note_and_no_other():
    song = EDITS["throw"](C, P, 0, 3840, "echo", 0.0).apply(only_pad(SONG))
    line = timeline(song)
    start = line.samples(RATE_HZ)[1]
    wet, dry = (Renderer(60).before_master(s, timeline(s), start, start + 8 * 88_200) for s in (song, only_pad(SONG)))
    bars = np.abs(wet - dry).max(axis=0).reshape(8, -1).max(axis=1)
    assert bars[0] > 0.003 and bars[1] > 0.003 and bars[7] < 0.1 * bars[0]


def test_a_curve_moves_smoothly_from_where_it_starts_to_where_it_ends():
    """A level curve of 40 dB over eight bars: no step between samples is larger than the sound itself makes."""
    song = EDITS["set_curve"](C, f"layer.{P}.level_db", [[0, -50, "line"], [8 * 3840, -10, "line"]]).apply(
        only_pad(SONG)
    )
    line = timeline(song)
    low, high = line.samples(RATE_HZ)[1:3]
    moved = Renderer(60).before_master(song, line, low, high)
    plain_song = EDITS["set_control"](P, "level_db", -10).apply(only_pad(SONG))
    still = Renderer(60).before_master(plain_song, timeline(plain_song), low, high)
    bars, plain = rms(moved[0].reshape(8, -1)), rms(still[0].reshape(8, -1))
    assert 20 * np.log10(bars / plain) == pytest.approx([-37.3, -32.4, -27.4, -22.4, -17.4, -12.4, -7.4, -2.4], abs=1.5)
    assert np.abs(np.diff(moved[0])).max() <= np.abs(np.diff(still[0])).max() * 1.01


@pytest.mark.parametrize("parameter, low, high", [("cutoff_hz", 200, 8000), ("resonance", 0.0, 0.9)])
def test_a_filters_curve_makes_no_zipper_noise(parameter, low, high):
    """A steady tone through a moving low-pass: no energy at the rate of the control steps."""
    stage_length = 2 * RATE_HZ
    moving = np.linspace(low, high, -(-stage_length // 16) + 1).astype(np.float32)
    stage = Stage("low-pass", (), 0, stage_length, QUARTER, 0, {parameter: moving})
    out = PROCESSES["low-pass"].process(tone(150)[None].astype(np.float32), stage)[0]
    spectrum = 20 * np.log10(np.abs(np.fft.rfft(out * np.blackman(len(out)))) / len(out) + 1e-12)
    hz = np.fft.rfftfreq(len(out), 1 / RATE_HZ)
    assert spectrum[(hz > 2500) & (hz < 6000)].max() < spectrum.max() - 90


def test_two_sections_share_a_value_where_a_sweep_crosses_their_join():
    song = EDITS["sweep"](f"layer.{B}.pan", 1, 16, -1.0, 1.0).apply(SONG)
    renderer, line = Renderer(60), timeline(song)
    parts = [next(p for p in renderer.plan(song, span).parts if p.layer_id == B) for span in line.spans]
    ends = [p.moving[0].at(np.array([0.0, 8 * 3840.0])) for p in parts]
    assert ends[0].tolist() == pytest.approx([-1, 0]) and ends[1].tolist() == pytest.approx([0, 1])


def test_any_layer_can_duck_another_and_the_beat_can_too():
    base = EDITS["set_control"](P, "duck_db", 18).apply(SONG)
    for by, gap in ((B, 11_025), (-1, 22_050)):
        song = EDITS["set_duck_by"](P, by).apply(base)
        span = timeline(song).spans[1]
        plan = Renderer(50).plan(song, span)
        assert np.diff(plan.onsets[by]).min() == pytest.approx(gap, abs=2)
    silent = EDITS["set_muted"](K, True).apply(base)
    assert not len(Renderer(50).plan(silent, timeline(silent).spans[1]).onsets[0])


def test_a_gliding_line_slides_where_notes_overlap_and_only_there():
    def pitch_at(rows, seconds):
        song = EDITS["add_layer"]("gliding-bass", rows=rows, length_ticks=3840).apply(SONG)
        layer = max(x.id for x in song.layers)
        song = EDITS["place"](V, layer, song.layer_by_id[layer].pattern_id).apply(song)
        part = next(p for p in Renderer(50).plan(song, timeline(song).spans[0]).parts if p.layer_id == layer)
        audio = Renderer(50).unit(part).audio[0]
        at = round(seconds * RATE_HZ)
        return loudest_hz(audio[None, at : at + 4096])

    overlapping = [[0, 1100, 0, 36, 0, 100], [960, 960, 0, 48, 0, 100]]
    apart = [[0, 900, 0, 36, 0, 100], [960, 960, 0, 48, 0, 100]]
    assert 66 < pitch_at(overlapping, 0.5) < 128, "on its way"
    assert pitch_at(apart, 0.51) == pytest.approx(130.8, rel=0.03) == pitch_at(overlapping, 0.7)


def test_a_compressor_on_the_mix_gives_the_same_whether_a_section_is_rendered_alone_or_with_all():
    song = EDITS["add_effect"]("master", "compressor").apply(EDITS["add_effect"]("bus.drums", "compressor").apply(SONG))
    for owner, devices in (("master", song.master), ("bus.drums", song.buses[0].devices)):
        song = EDITS["set_value"](f"{owner}.fx.{devices[0].id}.threshold_db", -40).apply(song)
    line = timeline(song)
    alone = [Renderer(60).chunk(song, line, i) for i in range(2)]
    whole = Renderer(100).render(song)
    assert np.array_equal(np.concatenate(alone, axis=1), whole)
    assert rms(whole).max() < 0.9 * rms(Renderer(60).render(SONG)).max()


@pytest.mark.parametrize("sound", [s for s in SOUNDS if not s.is_drum], ids=lambda s: s.key)
def test_widening_raises_the_sides_of_every_sound_by_what_it_promises(sound):
    """By 3 dB where there are sides, else from the middle to −12 dB or better; as loud as before within 2.5 dB, 4 dB of loss in mono at most."""
    rows = [(0.35 * i, 0.4, sound.centre + step) for i, step in enumerate((0, 3, 7, 2, 5, -2, 4, 0))]
    audio = np.pad(play_notes(sound.key, notes_of(rows, sound.key)), ((0, 0), (0, 4096)))
    key = "widen" if width_of(sound.key) >= WIDE else "double"
    out = through(key, audio)

    def read(x):
        middle, side = (x[0] + x[1]) / 2, (x[0] - x[1]) / 2
        return [10 * np.log10(float(np.square(y).sum()) + 1e-9) for y in (middle, side, x)]

    before, after = read(audio), read(out)
    ratio = [r[1] - r[0] for r in (before, after)]
    assert ratio[1] >= min(ratio[0] + 2.5, 2.0) if key == "widen" else ratio[1] >= -12.0
    if sound.family not in ("low end", "effects"):
        assert abs(after[2] - before[2]) < 2.5 and after[0] - before[0] > -4.5

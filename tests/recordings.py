"""Recordings with known truth, made here and not by the program's engine: what reading is judged on, and samples for songs.

Sines, noise and their envelopes from numpy only. `LOOPS` is the judging set: nothing was fitted on it.
"""

from dataclasses import asdict
from functools import cache

import numpy as np

from escalera.core.document.recordings import sample_of
from escalera.listen.whole_reading import read_recording

RATE = 44_100
MAJOR, MINOR = (0, 4, 7), (0, 3, 7)
LETTERS = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")


def hz(pitch, cents=0.0):
    return 440.0 * 2 ** ((pitch - 69 + cents / 100) / 12)


def kick(rng, at_hz=48.0):
    t = np.arange(int(0.35 * RATE)) / RATE
    phase = 2 * np.pi * np.cumsum(at_hz * (1 + 3.5 * np.exp(-t * 38))) / RATE
    return np.sin(phase) * np.exp(-t * 9) + 0.25 * rng.standard_normal(len(t)) * np.exp(-t * 400)


def snare(rng):
    t = np.arange(int(0.22 * RATE)) / RATE
    wires = np.convolve(rng.standard_normal(len(t)), np.ones(5) / 2.2, "same")  # wires are darker than white noise
    return 0.5 * wires * np.exp(-t * 22) + 0.5 * np.sin(2 * np.pi * 190 * t) * np.exp(-t * 30)


def hat(rng, length=0.05):
    t = np.arange(int(length * 3 * RATE)) / RATE
    noise = rng.standard_normal(len(t))
    return 0.28 * np.diff(noise, prepend=0.0) * np.exp(-t / length * 2.2)


def tone(pitch, seconds, cents=0.0, partials=6, attack=0.006, ring=2.0):
    t = np.arange(int(seconds * RATE)) / RATE
    out = sum(np.sin(2 * np.pi * hz(pitch, cents) * k * t) / k**1.4 for k in range(1, partials + 1))
    return out * np.minimum(1.0, t / attack) * np.exp(-t * ring) * np.minimum(1.0, (seconds - t) / 0.01)


def put(audio, at_s, sound, gain=1.0):
    """Add a sound that goes round the loop's end to its beginning."""
    at, n = round(at_s * RATE), audio.shape[-1]
    for low in range(0, len(sound), n):
        part = sound[low : low + n]
        index = (at + low + np.arange(len(part))) % n
        np.add.at(audio, index, gain * part)


BEATS = {  # kicks, snares, hats in sixteenths of a bar of four
    "four": ((0, 4, 8, 12), (4, 12), (2, 6, 10, 14)),
    "back": ((0, 7, 8), (4, 12), (0, 2, 4, 6, 8, 10, 12, 14)),
    "broken": ((0, 10), (4, 12), (0, 3, 6, 8, 11, 14)),
    "half": ((0, 6), (8,), (0, 2, 4, 6, 8, 10, 12, 14)),
    "sparse": ((0, 8), (4, 12), ()),
    "busy": ((0, 3, 6, 10), (4, 12), tuple(range(16))),
}
ROWS = {
    "minor": ((9, MINOR), (5, MAJOR), (0, MAJOR), (7, MAJOR)),
    "major": ((0, MAJOR), (7, MAJOR), (9, MINOR), (5, MAJOR)),
}


def loop(kind, tempo, bars, key=0, mode="major", beat="back", cents=0.0, seed=1, short_beats=0.0):
    """A loop and its truth: samples (1 or 2, n), tempo, bars, remainder in beats, key, tuning."""
    rng = np.random.default_rng(seed)
    beat_s = 60.0 / tempo
    n = round(bars * 4 * beat_s * RATE)
    audio = np.zeros(n)
    for bar in range(bars):
        start = bar * 4 * beat_s
        if kind in ("drums", "both"):
            for steps, make, gain in zip(BEATS[beat], (kick, snare, hat), (0.9, 0.7, 0.5)):
                for step in steps:
                    put(audio, start + step * beat_s / 4, make(rng), gain)
        if kind in ("chords", "both", "bass"):
            root, tones = ROWS[mode][bar % 4]
            # the minor row's first chord is its home: a tonic that many semitones up
            low = 36 + (root - (9 if mode == "minor" else 0) + key) % 12
            if kind != "bass":
                for step in (0, 6, 8, 14) if beat != "sparse" else (0, 8):
                    for t in tones:
                        put(audio, start + step * beat_s / 4, tone(low + 24 + t, beat_s * 1.4, cents), 0.12)
            for step in (0, 4, 8, 12) if kind == "bass" else (0, 8):
                put(audio, start + step * beat_s / 4, tone(low, beat_s * 0.9, cents, 4), 0.35)
    audio = 0.5 * audio / np.abs(audio).max()
    cut = audio[: n - round(short_beats * beat_s * RATE)]
    wide = np.stack((cut, np.roll(cut, 11))) if kind == "chords" else cut[None]
    name = f"{LETTERS[key]} {mode}" if kind in ("chords", "both") else None
    truth = dict(
        tempo=tempo, bars=bars, remainder=-short_beats if short_beats else 0.0, key=name, cents=cents, kind=kind
    )
    return wide.astype(np.float32), truth


def _loops():
    rows, beats = [], list(BEATS)
    for i in range(24):
        rows.append(("drums", 72.5 + 4.45 * i, (1, 2, 4)[i % 3], dict(beat=beats[i % 6], seed=i)))
    for i in range(18):
        rows.append(
            (
                "both",
                78.0 + 5.3 * i,
                (2, 4)[i % 2],
                dict(beat=beats[i % 6], key=5 * i % 12, mode=("major", "minor")[i % 2], seed=40 + i),
            )
        )
    for i in range(12):
        cents = (0, -14, 22, 0, 9, -31)[i % 6]
        rows.append(
            (
                "chords",
                84.0 + 6.1 * i,
                4,
                dict(key=7 * i % 12, mode=("minor", "major")[i % 2], cents=cents, seed=80 + i),
            )
        )
    for i in range(6):
        rows.append(("drums", 92.0 + 9 * i, 2, dict(beat=beats[i % 4], short_beats=1.0, seed=120 + i)))
    return rows


LOOPS = _loops()  # sixty
BEAT, BEAT_TRUTH = loop("drums", 112.0, 2, beat="back")


@cache
def known_sample(name="Known beat", tempo=120.0, bars=2, short_beats=0.0, kind="drums"):
    """A sample as a song keeps it, and its sound."""
    audio, _ = loop(kind, tempo, bars, beat="back", seed=7, short_beats=short_beats)
    reading = read_recording([audio], RATE, len(audio))
    return sample_of(_content(audio), name, reading, "made for tests", "own"), audio


def _content(audio):
    import hashlib

    return hashlib.blake2b(np.rint(audio * 8_388_607.0).astype(np.int32).tobytes(), digest_size=16).hexdigest()


def plain_sample(**options):
    """The same as plain values, as commands take it."""
    return asdict(known_sample(**options)[0])


def written(folder, name, audio=None, rate=RATE, **how):
    """An audio file written by another library, as people bring them."""
    import soundfile

    path = folder / name
    data = (BEAT if audio is None else audio).T
    if path.suffix in (".ogg", ".opus"):  # written in blocks, since one long write of Vorbis falls over
        with soundfile.SoundFile(path, "w", rate, data.shape[1], **how) as out:
            for low in range(0, len(data), 65_536):
                out.write(data[low : low + 65_536])
    else:
        soundfile.write(path, data, rate, **how)
    return path


def laid_in(studio, song, section_id, tmp_path, licence="unknown"):
    """A song with the beat of the library laid in; its id and the sample's."""
    id, _ = studio.samples.add_file(written(tmp_path, "Beat.wav"), licence=licence)
    song_id = studio.add_song(song, song.title)
    head = studio.head(song_id)
    studio.command(
        song_id, head.revision_id, {"kind": "lay_sample", "sample_id": str(id), "section_id": str(section_id)}
    )
    return song_id, id

"""Clips played: a stretch of a recording read, fitted to the time it takes in the song, and entered where its notes are."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.recordings import ROUND_FROM, Clip, Sample
from escalera.core.palette.recorded_sounds import AS_IT_IS
from escalera.core.reading.events import NO_CLIP, REVERSED
from escalera.lazy_dataclasses import dataclass
from escalera.sound.cache import AudioCache
from escalera.sound.content import content_key
from escalera.sound.recorded_notes import RELEASE, gliding, gone_round
from escalera.sound.recording_files import library, stand_in
from escalera.sound.schedule import RATE_HZ, Notes
from escalera.sound.stretching import ATTACKS, BOTH, HELD, LEAST, MOST, in_reach, sped, stretched

CLIP_VERSION = 3
BRIGHT_DB, STROKES_DB = (
    -17.0,
    7.0,
)  # the top against all, and its peaks against its middle, where there are strokes of a kit
EDGE = 132  # samples over which a clip that is cut begins and ends, 3 ms
SLICE_FADE = 220
UNCUT_S = 0.0005  # nearer than that to an end of its sample a clip is not cut there
LONG = 60 * RATE_HZ  # of a longer clip only what is played is read and fitted
ROOM = RATE_HZ // 2  # heard before a part of a long clip, so that the stretcher has begun
Audio = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Recorded:
    """One clip of a layer with what is known of its sample; `missing` plays its reading instead, `windows` are the stretcher's."""

    clip: Clip
    sample: Sample
    missing: bool = False
    windows: int = ATTACKS


def heard(sample: Sample) -> Sample:
    """What of a sample its sound depends on."""
    return Sample("", "-", sample.seconds, slot_s=sample.slot_s, slots=sample.slots, onsets=sample.onsets)


def windows_of(sample: Sample) -> int:
    """The stretcher's windows for a sample: long for what is held, short for beats, between for hits with a pitch and where the
    top is full of strokes."""
    if not (sample.key or sample.pitch_hz):
        return ATTACKS
    power = sample.power
    top = power[:, 4:].sum(axis=1)
    if sample.kind == "hit" or not len(top):
        return BOTH
    bright = top.max() > power.sum(axis=1).max() * 10.0 ** (BRIGHT_DB / 10.0)
    return BOTH if bright and top.max() > np.median(top) * 10.0 ** (STROKES_DB / 10.0) else HELD


def lengths_of_clips(recorded: tuple[Recorded, ...], notes: Notes) -> NDArray[np.int64]:
    """How long every note sounds in samples, shape (n,): its clip at most."""
    clips = notes.clips
    if not recorded:
        return np.zeros(len(notes.start), np.int64)
    held, whole = notes.hold + RELEASE, natural_length(recorded[0].clip)
    if recorded[0].clip.plays != "round":
        held = np.minimum(held, whole) if recorded[0].clip.plays == "held" else np.full(len(held), whole)
    if clips is None:
        return held
    return np.where(
        clips[:, 0] == NO_CLIP,
        held,
        np.minimum(notes.hold, clips[:, 2] - clips[:, 1]) + EDGE,
    )


def play_clips(
    recorded: tuple[Recorded, ...],
    notes: Notes,
    audio: Audio,
    offset: int,
    gains: NDArray[np.float64],
    sides: tuple[NDArray[np.float64], NDArray[np.float64]] | None,
    cents: float,
    cache: AudioCache,
) -> None:
    """Add what clips play to audio (2, n) that begins `offset` samples after the section's start.

    `gains` (n,) are amplitudes, `sides` a pair of them or None for the middle, `cents` a fine tuning of all.
    """
    holds = lengths_of_clips(recorded, notes)
    clips = notes.clips
    glides = _glides(recorded[0].clip.glide_ms if recorded else 0.0, notes)
    for i in range(len(notes.start)):
        number, skip, whole = (int(x) for x in clips[i]) if clips is not None else (NO_CLIP, 0, 0)
        place = number % REVERSED if number != NO_CLIP else 0
        if place >= len(recorded):
            continue
        one = recorded[place]
        semitones = float(notes.pitch[i] - (AS_IT_IS if number != NO_CLIP else one.clip.root)) + cents / 100.0
        turned = one.clip.reversed != (number >= REVERSED)
        if number == NO_CLIP:
            part = played_note(one, int(holds[i]), semitones, glides[i], cache)
        else:
            part = _part(one, whole, skip, int(holds[i]) - EDGE, semitones, turned, cache)
        at = int(notes.start[i]) - offset
        room = min(part.shape[1], audio.shape[1] - at)
        for side, out in enumerate(audio):
            level = gains[i] * (sides[side][i] if sides else 1.0)
            if room > 0:
                out[at : at + room] += part[min(side, len(part) - 1), :room] * np.float32(level)


def _glides(glide_ms: float, notes: Notes) -> NDArray[np.float64]:
    """Semitones from which every note glides to its own pitch, 0 where it begins on it; shape (n,)."""
    found = np.zeros(len(notes.start))
    if glide_ms and len(found) > 1:
        order = np.argsort(notes.start, kind="stable")
        apart = np.diff(notes.start[order])
        steps = np.where(apart > 0, -np.diff(notes.pitch[order].astype(float)), 0.0)
        found[order[1:]] = steps
    return found


def played_note(one: Recorded, hold: int, semitones: float, glide: float, cache: AudioCache) -> Audio:
    """A clip played by a note of `hold` samples at its pitch: shape (channels, at most `hold`), its gain applied.

    `glide` is where it begins, in semitones from its pitch. A note that ends before its clip fades out, over RELEASE samples
    where it goes round or glides.
    """
    clip = one.clip
    whole = natural_length(clip)
    if not (clip.plays == "round" or glide):
        return _part(one, whole, 0, hold, semitones, clip.reversed, cache)
    key = content_key("clip note", CLIP_VERSION, one, hold, semitones, glide)
    made = cache.get_or_make(key, lambda: _held(one, whole, hold, semitones, glide, cache))
    part: Audio = made * np.float32(10.0 ** (clip.gain_db / 20.0))
    ramp_out(part, min(RELEASE, hold))
    return part


def _held(one: Recorded, whole: int, hold: int, semitones: float, glide: float, cache: AudioCache) -> Audio:
    at_pitch = fitted(one, whole, semitones, one.clip.reversed, cache)
    if one.clip.plays == "round":
        at_pitch = gone_round(at_pitch, hold + (RATE_HZ if glide else 0), ROUND_FROM)
    return gliding(at_pitch, glide, one.clip.glide_ms)[:, :hold] if glide else at_pitch[:, :hold]


def natural_length(clip: Clip) -> int:
    """Samples that a clip lasts as it was recorded."""
    return max(1, round(clip.seconds * RATE_HZ))


def _part(one: Recorded, whole: int, skip: int, hold: int, semitones: float, turned: bool, cache: AudioCache) -> Audio:
    """`hold` samples of a fitted clip from `skip` on, its gain applied.

    Where it is cut it sounds on for EDGE samples while it fades, and where it is entered it fades in over as many: the next
    slice of the same recording takes over without a trace.
    """
    if whole > LONG and one.clip.fit in ("stretch", "alone"):
        key = content_key("clip part", CLIP_VERSION, one, whole, semitones, turned, skip, hold)
        made = cache.get_or_make(key, lambda: _long(one, whole, skip, hold + EDGE, semitones, turned))
    else:
        made = fitted(one, whole, semitones, turned, cache)[:, skip : skip + hold + EDGE]
    part: Audio = made * np.float32(10.0 ** (one.clip.gain_db / 20.0))
    if skip:
        ramp_in(part, EDGE)
    if skip + hold < whole:
        ramp_out(part, EDGE)
    return part


def ramp_in(audio: Audio, length: int) -> None:
    """Fade the beginning of (channels, n) in, in place, along a line from 0."""
    n = min(length, audio.shape[1])
    audio[:, :n] *= np.arange(n, dtype=np.float32) / np.float32(max(length, 1))


def ramp_out(audio: Audio, length: int) -> None:
    """Fade the end of (channels, n) out, in place: what a fade in of the same length is missing of a whole."""
    n = min(length, audio.shape[1])
    if n:
        audio[:, -n:] *= 1.0 - np.arange(n, dtype=np.float32) / np.float32(max(length, 1))


def _read(one: Recorded, start: int, count: int) -> Audio:
    before = max(0, -start)
    found = None if one.missing else library.read(one.clip.sample, start + before, count - before)
    if found is None:
        found = stand_in(one.sample, start + before, count - before)
    if before:
        found = np.pad(found, ((0, 0), (before, 0)))
    return found if found.shape[1] == count else np.pad(found, ((0, 0), (0, count - found.shape[1])))


def fitted(one: Recorded, whole: int, semitones: float, turned: bool = False, cache: AudioCache | None = None) -> Audio:
    """A clip as long as it is to last (samples), transposed, with its fades, shape (channels, whole).

    What cannot be stretched so far is as long as it can be and followed by silence. Gain and fades are put on what was
    fitted and kept, so that changing them fits nothing anew.
    """
    clip = one.clip
    bare = replace(one, clip=replace(clip, gain_db=0.0, fade_in_ms=0.0, fade_out_ms=0.0, seam_ms=0.0, beats=1.0))
    key = content_key("clip", CLIP_VERSION, bare, whole, semitones, turned)
    made = (
        cache.get_or_make(key, lambda: _fitted(bare, whole, semitones, turned))
        if cache
        else _fitted(bare, whole, semitones, turned)
    )
    return _faded(clip, made, whole)


def _fitted(one: Recorded, whole: int, semitones: float, turned: bool) -> Audio:
    clip = one.clip
    total = natural_length(clip)
    begins, ends = clip.start_s > UNCUT_S, clip.end_s < one.sample.seconds - UNCUT_S
    source = _read(
        one,
        round(clip.start_s * RATE_HZ) - (EDGE if turned and begins else 0),
        total + (EDGE if (begins if turned else ends) else 0),
    )
    if turned:
        source = np.ascontiguousarray(source[:, ::-1])
    after = source.shape[1] - total  # what follows the clip, for it to fade in
    # notes may lie anywhere: one that no recording can be moved to sounds in another octave, and the song goes on
    by = in_reach(semitones + clip.semitones)
    made = FITTING[clip.fit](one, source, round(whole * source.shape[1] / total), by)
    made = np.array(_to(made, whole + (EDGE if after else 0)), np.float32)
    if ends if turned else begins:
        ramp_in(made, EDGE)
    if after:
        ramp_out(made, EDGE)
    return made


def _reachable(source: Audio, whole: int) -> int:
    return int(np.clip(whole, np.ceil(source.shape[1] * LEAST), np.floor(source.shape[1] * MOST)))


def _by_stretch(one: Recorded, source: Audio, whole: int, semitones: float) -> Audio:
    length, windows = _reachable(source, whole), one.windows
    if one.clip.formants and semitones:
        from escalera.sound.formants import kept

        return _to(kept(source, stretched(source, length, semitones, windows), semitones), whole)
    return _to(stretched(source, length, semitones, windows), whole)


def _by_speed(one: Recorded, source: Audio, whole: int, semitones: float) -> Audio:
    """Pitch follows speed; what is asked of transposition comes on top."""
    made = sped(source, _reachable(source, whole))
    return _to(stretched(made, made.shape[1], semitones, one.windows) if semitones else made, whole)


def _alone(one: Recorded, source: Audio, whole: int, semitones: float) -> Audio:
    if not semitones:
        return _to(source, whole)
    made = stretched(source, source.shape[1], semitones, one.windows)
    if one.clip.formants:
        from escalera.sound.formants import kept

        made = kept(source, made, semitones)
    return _to(made, whole)


def slice_edges(one: Recorded, length: int) -> list[int]:
    """Samples of a clip's source at which a slice begins: its onsets, the first at 0 and the last one its end."""
    rows = one.sample.onset_rows
    clip = one.clip
    inside = rows[(rows[:, 0] > clip.start_s + 0.03) & (rows[:, 0] < clip.end_s - 0.03) & (rows[:, 1] > 0.15)]
    at = np.rint((inside[:, 0] - clip.start_s) * RATE_HZ).astype(int)
    if clip.reversed:
        at = length - at
    return sorted({0, *(int(x) for x in at if 0 < x < length), length})


def _by_slices(one: Recorded, source: Audio, whole: int, semitones: float) -> Audio:
    """Every onset moved to where it belongs, nothing stretched: slices that get too long are followed by their own fading tail."""
    if semitones:
        source = stretched(source, source.shape[1], semitones, one.windows)
    ratio = whole / source.shape[1]
    out = np.zeros((source.shape[0], whole), np.float32)
    edges = slice_edges(one, source.shape[1])
    for a, b in zip(edges, edges[1:]):
        at, until = round(a * ratio), round(b * ratio)
        length = min(b - a, until - at)
        cut = length < b - a or b < source.shape[1]
        part = source[:, a : min(source.shape[1], a + length + (SLICE_FADE if cut else 0))].copy()
        if cut and until < whole:
            fade = min(SLICE_FADE, part.shape[1])
            part[:, -fade:] *= np.linspace(1.0, 0.0, fade, dtype=np.float32)
        if a:
            begin = min(SLICE_FADE, at, a)
            lead = source[:, a - begin : a] * np.linspace(0.0, 1.0, begin, dtype=np.float32)
            out[:, at - begin : at] += lead
        room = min(part.shape[1], whole - at)
        out[:, at : at + room] += part[:, :room]
    return out


FITTING = {"stretch": _by_stretch, "slices": _by_slices, "speed": _by_speed, "alone": _alone}


def _long(one: Recorded, whole: int, skip: int, hold: int, semitones: float, turned: bool) -> Audio:
    """A part of a long clip: only what is played is read and fitted, begun a little earlier so that nothing swells in."""
    clip = one.clip
    total = natural_length(clip)
    ratio = 1.0 if clip.fit == "alone" else float(np.clip(whole / total, LEAST, MOST))
    before = min(ROOM, skip)
    first, last = round((skip - before) / ratio), min(total, round((skip + hold) / ratio) + ROOM)
    if first >= total:
        return np.zeros((1, hold), np.float32)
    begin = total - last if turned else first
    source = _read(one, round(clip.start_s * RATE_HZ) + begin, max(1, last - first))
    if turned:
        source = np.ascontiguousarray(source[:, ::-1])
    by = in_reach(semitones + clip.semitones)
    plain = clip.fit == "alone" and abs(by) < 1e-9  # what is neither stretched nor transposed is the recording itself
    made = source if plain else stretched(source, _reachable(source, round(source.shape[1] * ratio)), by, one.windows)
    return np.ascontiguousarray(_to(made[:, before:], hold))


def _to(audio: Audio, length: int) -> Audio:
    if audio.shape[1] >= length:
        return audio[:, :length]
    return np.pad(audio, ((0, 0), (0, length - audio.shape[1])))


def _faded(clip: Clip, audio: Audio, whole: int) -> Audio:
    """Fades at both ends, and the end crossfaded into the beginning where a seam is asked for; itself where there are none."""
    if not (clip.fade_in_ms or clip.fade_out_ms or clip.seam_ms):
        return audio
    audio = audio.copy()
    inner = audio[:, :whole]
    for milliseconds, fade in ((clip.fade_in_ms, ramp_in), (clip.fade_out_ms, ramp_out)):
        length = min(inner.shape[1], round(milliseconds / 1000 * RATE_HZ))
        if length:
            fade(inner, length)
    if clip.fade_out_ms:
        audio[:, whole:] = 0.0
    seam = min(inner.shape[1] // 2, round(clip.seam_ms / 1000 * RATE_HZ))
    if seam > 1:
        _sew(inner, seam)
    return audio


def _sew(audio: Audio, seam: int) -> None:
    """The last moment of a loop goes over into what would have come before its first: equal power, levels matched at the seam."""
    angle = np.linspace(0.0, np.pi / 2, seam, dtype=np.float32)
    before = audio[:, :seam][:, ::-1]  # the beginning mirrored has its level and its ambience
    audio[:, -seam:] = audio[:, -seam:] * np.cos(angle) + before * np.sin(angle)

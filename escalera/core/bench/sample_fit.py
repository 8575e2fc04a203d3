"""How a sample fits a song: tempo against tempo, key against key, bars against bars, and what each way of fitting costs."""

from __future__ import annotations

from math import log2

from escalera.core.document.recordings import Clip, Sample
from escalera.core.document.song import Section, Song
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.core.samples.reading import bars_of
from escalera.core.theory.keys import Key, parse_key
from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass

SMEARS = {"drums": 12.0, "other": 22.0}  # per cent of stretch beyond which attacks or tones audibly suffer
FAR_SEMITONES = 4.0  # beyond which a transposed recording sounds like another instrument
AUDIBLE_CENTS = 12.0
NEAREST = (-5, 6)  # semitones within which a key is reached the shorter way
PERCUSSIVE = ("drums", "effects")


@dataclass(frozen=True, slots=True)
class Fitting:
    """What fitting a sample takes: `percent` longer (+) or shorter (−), `semitones` to the song's key, its length in the song
    in quarter notes, what is left over of whole bars (+) or missing (−), and what to say of it."""

    percent: float
    semitones: int
    beats: float
    bars: int
    remainder_beats: float
    costs: str
    better: str = ""
    better_fit: str = ""


def tempo_of(sample: Sample, song_tempo: float) -> float:
    """A sample's tempo at the octave nearest to the song's: half and double are the same loop."""
    tempo = sample.tempo_bpm
    if not tempo:
        return song_tempo
    return min((tempo / 2, tempo, tempo * 2), key=lambda t: abs(t / song_tempo - 1.0) + abs(song_tempo / t - 1.0))


def semitones_to(sample_key: str, song_key: Key) -> int:
    """The least transposition that brings a key's notes onto the song's: relatives share theirs. 0 where none is known."""
    if not sample_key:
        return 0
    try:
        key = parse_key(sample_key)
    except EscaleraError:
        return 0
    low, high = NEAREST
    steps = sorted(range(low, high + 1), key=lambda n: (abs(n), n))
    wanted = set(song_key.classes)
    return max(steps, key=lambda n: (len({(c + n) % 12 for c in key.classes} & wanted), -abs(n)))


def fitting(song: Song, sample: Sample, family: str = "", section: Section | None = None) -> Fitting:
    """How a sample fits a song, or one of its sections, as a layer of a family."""
    tempo = section_tempo(song, section)
    own = tempo_of(sample, tempo)
    percent = 100.0 * (own / tempo - 1.0)
    drums = (family or ("drums" if not sample.key else "chords")) in PERCUSSIVE
    shift = section.shift_semitones if section else 0
    semitones = 0 if drums else semitones_to(sample.key, song.key)
    beats = sample.seconds * own / 60.0
    bars, rest = bars_of(beats, sample.beats_a_bar)
    whole = bars * sample.beats_a_bar if bars and not rest else round(beats * 4) / 4 or 0.25
    limit = SMEARS["drums" if drums else "other"]
    said = [_stretch_said(percent), *([f"{semitones:+d} semitones".replace("-", "−")] if semitones else [])]
    better, better_fit = "", ""
    if abs(percent) > limit:
        said.append(f"{'drums smear' if drums else 'tones thin out'} above {limit:g} %")
        if drums:
            better, better_fit = "By slices its attacks stay as they are.", "slices"
        elif abs(percent) < 30 and not semitones:
            better, better_fit = "By speed nothing smears, and the pitch follows.", "speed"
    if abs(semitones + shift) > FAR_SEMITONES:
        said.append("transposed so far it changes its character")
    if not drums and abs(sample.tuning_cents) > AUDIBLE_CENTS:
        said.append(
            f"{abs(sample.tuning_cents):.0f} cents {'flat' if sample.tuning_cents < 0 else 'sharp'} against A 440"
        )
    return Fitting(round(percent, 2), semitones, float(whole), bars, rest, ", ".join(said), better, better_fit)


def _stretch_said(percent: float) -> str:
    if abs(percent) < 0.05:
        return "at its own tempo"
    return f"{abs(percent):.2g} % {'slower' if percent > 0 else 'faster'}"


def section_tempo(song: Song, section: Section | None) -> float:
    """Quarter notes a minute at the section's beginning, or the song's own."""
    if section is None:
        return song.tempo_bpm
    return float(timeline(song).span_of(section.id).tempo_points[0][1])


def clip_for(song: Song, sample: Sample, family: str, section: Section | None = None) -> Clip:
    """A whole sample as a clip that fits the song: stretched to its tempo, in its key, tuned to it."""
    found = fitting(song, sample, family, section)
    drums = family in PERCUSSIVE
    cents = 0.0 if drums or abs(sample.tuning_cents) < 3.0 else -sample.tuning_cents / 100.0
    fit = "stretch" if sample.tempo_bpm else "alone"
    tempo = section_tempo(song, section)
    beats = found.beats if sample.tempo_bpm else max(1 / 64, sample.seconds * tempo / 60.0)
    if found.better_fit == "slices":
        fit = "slices"
    return Clip(
        sample.content,
        0.0,
        sample.seconds,
        round(beats, 6),
        fit,
        round(found.semitones + cents, 3),
        seam_ms=0.0,
        root=root_of(sample),
    )


@dataclass(frozen=True, slots=True)
class AlongChords:
    """A recorded chord moved along a section's chords: the chords it makes right, and those whose third comes out wrong."""

    right: tuple[str, ...]
    wrong: tuple[str, ...]

    @property
    def said(self) -> str:
        """A warning; empty where every third is right."""
        if not self.wrong:
            return ""
        many = len(self.wrong) > 1
        return (
            f"Moved along the chords its third is wrong over {', '.join(self.wrong)}: use a single note or a bare fifth there, "
            f"or let it rest on {'those' if many else 'that'}."
        )


def along_chords(song: Song, section: Section, has_minor_third: bool) -> AlongChords:
    """Where a full chord that goes along with a section's chords meets their thirds."""
    right: dict[str, None] = {}
    wrong: dict[str, None] = {}
    for chord in section_harmony(song, timeline(song).span_of(section.id)).chords:
        thirds = {t % 12 for t in chord.tones} & {3, 4}
        fits = not thirds or (3 if has_minor_third else 4) in thirds
        (right if fits else wrong)[chord.name()] = None
    return AlongChords(tuple(right), tuple(wrong))


def root_of(sample: Sample) -> int:
    """The MIDI pitch a sample sounds at as it is: its own, else its key's tonic in the octave below middle C, else middle C."""
    if sample.pitch_hz <= 0:
        return 48 + parse_key(sample.key).tonic_class if sample.key else 60
    return int(min(127, max(0, round(69 + 12 * log2(sample.pitch_hz / 440.0)))))


def cents_off(sample: Sample) -> float:
    """Cents by which a settled pitch lies off the next note at A 440; 0 where there is none."""
    if sample.pitch_hz <= 0:
        return 0.0
    exact = 69 + 12 * log2(sample.pitch_hz / 440.0)
    return 100.0 * (exact - round(exact))

"""Parts of a MIDI file as layers: what each of them is by name, program, channel, register and how it plays; and its patterns."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.limits import MAX_LAYERS
from escalera.core.document.song import Ids, Layer, NamedPattern, Placement, Song
from escalera.core.edits.layer_edits import free_layer_name, seed_of
from escalera.core.palette.sounds import (
    BY_KEY,
    DEFAULT_FOR_FAMILY,
    DRUM_NOTES,
    DRUM_SOUND,
    PROGRAM_FAMILY,
    sound_for_program,
)
from escalera.core.performance.played import Ints, Played, PlayedPart, bar_kinds, is_performed
from escalera.core.reading.placements import joined
from escalera.core.rhythm.pattern import FIXED, Pattern
from escalera.errors import FormatError
from escalera.formats.midi_read import DRUM_CHANNEL, ChannelNotes, MidiFacts, NoteRow
from escalera.lazy_dataclasses import dataclass

QUIETEST_DB, LOUDEST_DB = -12.0, 6.0  # how far a part's volume moves its layer from where its sound usually stands
# words in names of parts, in several languages, and the family they tell; the first that is found counts
# fmt: off
NAME_WORDS = {
    "low end": r"\bsub|bas{1,2}[eos]?\b|\bbajo|baixo|contrab|kontrab|bass(?!oon)",
    "voices": r"vox|vocal|\bvoc|\bvoi[cx]|\bvoz|\bvoce|\bcanto|\bchant|gesang|stimme|\bsing|choir|ch[oœ]+e?ur|\bchor\b|"
              r"\bcoro\b|\bcor[oa]\b|soprano|alto\b|tenor\b|tenore",
    "effects": r"\bfx|\bsfx|effe[ck]t|effet|efecto|\brise|riser|sweep|impact|noise",
    "leads": r"\blead|melod|m[eé]lodie|\bhook|\bbell|\bsolo|\bflu?[aâ]?[uû]te|fl[oö]te|flauta|flauto|violin[eoe]?\b|geige|"
             r"viol[oó]n\b|oboe|clarin|klarin|trompet|trumpet|tromba|\bsax|\bhorn\b|whistle|fiddle|glock",
    "chords": r"\bpad|\bkey|piano|klavier|tecla|tast|clavier|e\.? ?piano|organ|orgel|orgue|\bchord|akkord|accord|acorde|guit|gitar|"
              r"chitarra|viol[aã]o|\bgtr|string|streich|cordes|cuerdas|archi|\bcello|brass|\bharp|harfe|arpa|banjo|ukul|mandol|"
              r"accordion|akkordeon|acorde[oó]n|fisarmonica|\bstab|\bpluck",
}  # fmt: skip
DRUM_WORDS = r"drum|schlagzeug|bater[ií]|batteri|percus|perkus|\bkit\b|\bbeat\b"


@dataclass(frozen=True, slots=True)
class LayerNotes:
    """Notes of a layer, and whether the part they belong to was played by hand."""

    rows: list[NoteRow]
    by_hand: bool


def family_named(name: str) -> str | None:
    """The family that a part's name tells, None where it tells none."""
    return next((family for family, words in NAME_WORDS.items() if re.search(words, name.casefold())), None)


def is_drums(part: ChannelNotes) -> bool:
    """The drum channel, or a part called so whose notes lie where drums do."""
    if part.channel == DRUM_CHANNEL:
        return True
    named = re.search(DRUM_WORDS, part.name.casefold()) is not None and family_named(part.name) is None
    return named and all(27 <= n[2] <= 87 for n in part.notes) and (part.program or 0) == 0


def played_from(facts: MidiFacts, bar_ticks: list[int], metres: list) -> Played:  # type: ignore[type-arg]
    """The file's parts over its bars, for reading."""
    parts = tuple(
        PlayedPart(
            np.array([(s, s + d, p, v) for s, d, p, v in part.notes], np.int64).reshape(-1, 4),
            is_drums(part),
            part.name,
        )
        for part in facts.parts
    )
    return Played(parts, tuple(bar_ticks), tuple(metres))


def make_layers(song: Song, facts: MidiFacts, report: list[str]) -> tuple[Song, list[LayerNotes]]:
    """Layers and, beside them, their notes. Drums become one layer a drum."""
    rows: list[LayerNotes] = []
    usual = _usual_level(facts)
    for part in facts.parts:
        source = f"track {part.track + 1}, channel {part.channel + 1}" + (f": {part.name}" if part.name else "")
        by_hand = is_performed(np.array([(s, s + d, p, v) for s, d, p, v in part.notes], np.int64))
        if is_drums(part):
            for drum in dict.fromkeys(DRUM_NOTES.get(p, "shaker") for *_, p, _ in part.notes):
                mine = [n for n in part.notes if DRUM_NOTES.get(n[2], "shaker") == drum]
                song = _add_layer(song, drum.capitalize(), DRUM_SOUND[drum], "drums", part, source, usual)
                rows.append(LayerNotes(mine, by_hand))
        else:
            family, sound_key = _guess(part)
            song = _add_layer(song, part.name or BY_KEY[sound_key].label, sound_key, family, part, source, usual)
            rows.append(LayerNotes(part.notes, by_hand))
        if len(song.layers) > MAX_LAYERS:
            raise FormatError(
                f"The file has more than {MAX_LAYERS} parts, the most that a song may have layers. Merge some tracks."
            )
    report.append(f"{len(facts.parts)} tracks and channels became {len(song.layers)} layers.")
    return song, rows


def _usual_level(facts: MidiFacts) -> float:
    """The level in the middle of the parts: a file that is quiet as a whole is no file of quiet layers."""
    said = [part.level_db for part in facts.parts if part.level_db is not None]
    return float(np.median(said)) if said else 0.0


def _add_layer(
    song: Song, name: str, sound_key: str, family: str, part: ChannelNotes, source: str, usual_db: float
) -> Song:
    sound, name = BY_KEY[sound_key], free_layer_name(song, name)
    apart = 0.0 if part.level_db is None else min(LOUDEST_DB, max(QUIETEST_DB, part.level_db - usual_db))
    layer = Layer(
        song.next_id,
        name,
        sound_key,
        family,
        sound.job,
        seed_of(name, {x.seed for x in song.layers}),
        round(max(-60.0, sound.level_db + apart), 1),
        round(part.pan or 0.0, 2),
        source=source[:200],
    )
    return replace(song, layers=(*song.layers, layer), next_id=song.next_id + 1)


def _guess(part: ChannelNotes) -> tuple[str, str]:
    """Family and sound from the name, the program, the register and how many notes sound together."""
    pitches = [pitch for _, _, pitch, _ in part.notes]
    together = len(part.notes) / len({start // 60 for start, *_ in part.notes})
    named = family_named(part.name)
    if named == "low end" and float(np.median(pitches)) >= 60:
        named = None
    if part.program is not None and (part.program > 0 or named is None):
        family = named or PROGRAM_FAMILY[part.program // 8]
        sound_key = sound_for_program(part.program)
        if BY_KEY[sound_key].family == family and not BY_KEY[sound_key].is_drum:
            return family, sound_key
        return family, DEFAULT_FOR_FAMILY[family]
    if named:
        return named, DEFAULT_FOR_FAMILY[named]
    if np.median(pitches) < 48 and together < 1.3:
        return "low end", "plucked-bass"
    return ("chords", "tine-keys") if together >= 1.8 else ("leads", "plucked-lead")


def place_notes(song: Song, layer: Layer, notes: LayerNotes, played: Played) -> Song:
    """Cut a layer's notes into bars; equal bars share a pattern, and neighbours that repeat become one placement. Of a part that
    is played by hand, bars that are the same but for their feel share the one that is most like the others."""
    rows = np.array([(s, s + d, p, v) for s, d, p, v in notes.rows], np.int64).reshape(-1, 4)
    if notes.by_hand:
        whole = Played((PlayedPart(rows, layer.sound.is_drum),), played.bar_ticks, played.metres).by_bar[0]
    else:
        at = np.searchsorted(np.array(played.bar_ticks), rows[:, 0], side="right") - 1
        at = np.clip(at, 0, played.bars - 1)
        cuts = np.searchsorted(at, np.arange(played.bars + 1))
        whole = tuple(_in_bar(rows[low:high], played.bar_ticks[i]) for i, (low, high) in enumerate(zip(cuts, cuts[1:])))
    home = _at_home(song, layer, whole)
    if notes.by_hand:
        kinds, typical = bar_kinds(home)
        home = tuple(home[typical[kind]] if kind >= 0 else row for kind, row in zip(kinds, home))
    return _placed(song, layer, home, played)


def _in_bar(rows: Ints, start: int) -> Ints:
    return np.stack((rows[:, 0] - start, rows[:, 1] - rows[:, 0], rows[:, 2], rows[:, 3]), axis=1)


def _at_home(song: Song, layer: Layer, bars: tuple[Ints, ...]) -> tuple[Ints, ...]:
    """Bars in the song's own key: what lies in a section that is shifted is written without the shift."""
    down = [0 if layer.sound.is_drum else s.shift_semitones for s in song.sections for _ in range(s.bars)]
    return tuple(rows - np.array([0, 0, by, 0]) if by else rows for rows, by in zip(bars, down))


def _fixed(notes: Ints) -> NDArray[np.int32]:
    """Rows of a pattern from notes (n, 4): start, length, pitch, velocity."""
    rows = np.zeros((len(notes), 6), np.int32)
    rows[:, 0], rows[:, 1], rows[:, 2], rows[:, 3], rows[:, 5] = *notes[:, :2].T, FIXED, notes[:, 2], notes[:, 3]
    return rows


def _placed(song: Song, layer: Layer, bars: tuple[Ints, ...], played: Played) -> Song:
    ids, known, used = Ids(song.next_id), dict[Pattern, int](), dict[int, int]()
    seen = dict[tuple[int, bytes], Pattern]()
    entries, sections, first = list(song.patterns), [], 0
    for section in song.sections:
        placements = list(section.placements)
        for bar in range(first, first + section.bars):
            if not len(bars[bar]):
                continue
            key = (played.metres[bar].bar_ticks, bars[bar].tobytes())
            if key not in seen:  # the same bytes need no pattern to be told
                seen[key] = pattern = Pattern(key[0], _fixed(bars[bar]))
                if pattern not in known:
                    known[pattern] = ids()
                    name = f"{layer.name[:70]} {len(known)}"
                    entries.append(NamedPattern(known[pattern], name, layer.family, pattern))
            pattern_id = known[seen[key]]
            used[pattern_id] = used.get(pattern_id, 0) + 1
            low, high = (played.bar_ticks[b] - played.bar_ticks[first] for b in (bar, bar + 1))
            placements.append(Placement(ids(), layer.id, pattern_id, low, high, low % key[0]))
        sections.append(replace(section, placements=joined(placements)))
        first += section.bars
    song = replace(song, sections=tuple(sections), patterns=tuple(entries), next_id=ids.next_id)
    return song.with_layer(replace(layer, pattern_id=max(used, key=lambda k: used[k]))) if used else song

"""Drills from generated material: tempo, counting, level, place, pitch, time, chords, filters."""

from __future__ import annotations

import random

from escalera.core.drills.question import (
    BAR,
    HATS,
    KICKS,
    SNARES,
    DrillMaterial,
    HeardPassage,
    PlayedLayer,
    Question,
    Rows,
    drill,
    placed_right,
    small,
)
from escalera.core.theory.keys import Key

KICK, SNARE, HAT, KEYS, BASS, BELL, PAD = (
    "round-kick",
    "room-snare",
    "tin-hat",
    "tine-keys",
    "plucked-bass",
    "glass-bell",
    "soft-pad",
)
BEAT = (PlayedLayer(KICK, KICKS), PlayedLayer(SNARE, SNARES, level_db=-12), PlayedLayer(HAT, HATS, level_db=-18))
AB = ("the first", "the second")


def _chord(pitches: tuple[int, ...], start: int = 0, length: int = 3600) -> Rows:
    return [[start, length, 0, p, 0, 92] for p in pitches]


@drill("faster", "Which is faster", "tempo", 20.0, 0.5, "%")
def _faster(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    base, second = chance.uniform(72, 150), chance.random() < 0.5
    tempi = (base, base * (1 + size / 100)) if second else (base * (1 + size / 100), base)
    heard = tuple(HeardPassage(label, small(2, t, *BEAT)) for label, t in zip(AB, tempi))
    why = f"{AB[second].capitalize()} is faster: {tempi[0]:.1f} and {tempi[1]:.1f} bpm, {size:.1f} % apart."
    return Question("faster", "Which is faster?", heard, AB, int(second), why, f"{size:.1f} %")


@drill("tempo by ear", "Tempo by ear", "tempo", 30.0, 4.0, "%", 4)
def _tempo_by_ear(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    right, place = chance.uniform(70, 150), chance.randrange(4)
    rows = [round(right * (1 + size / 100) ** (i - place)) for i in range(4)]
    rows[place] = round(right)
    heard = (HeardPassage("a beat", small(2, rows[place], *BEAT)),)
    why = f"It runs at {rows[place]} bpm; the answers lie {size:.0f} % apart."
    return Question(
        "tempo by ear", "How fast is it?", heard, tuple(f"{t} bpm" for t in rows), place, why, f"{size:.0f} %"
    )


@drill("tapped tempo", "Tap the tempo", "tempo", 12.0, 1.5, "%")
def _tapped(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    tempo = round(chance.uniform(66, 160), 1)
    heard = (HeardPassage("a beat", small(4, tempo, *BEAT)),)
    why = f"It runs at {tempo:g} bpm; within {size:.1f} % counts."
    return Question(
        "tapped tempo",
        "Tap along with T, then press Enter.",
        heard,
        (),
        0,
        why,
        f"{size:.1f} %",
        tempo,
        tempo * size / 100,
        taps=True,
    )


@drill("count the bars", "Count the bars", "counting", 4.0, 14.0, "bars")
def _count(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    bars = max(3, round(size) + chance.randint(-1, 2))
    tempo = chance.uniform(128, 160)
    heard = (HeardPassage("a stretch", small(bars, tempo, *BEAT), 60.0),)
    return Question(
        "count the bars",
        "How many bars are there?",
        heard,
        (),
        0,
        f"There are {bars} bars at {tempo:.0f} bpm.",
        "",
        bars,
    )


@drill("louder or brighter", "Louder, or only brighter", "level", 6.0, 0.5, "dB")
def _louder(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    """Both are changed against the same first one: by level, or by what a low-pass took away, at the same loudness."""
    louder = chance.random() < 0.5
    pitches = tuple(48 + chance.randint(0, 7) + x for x in (0, 7, 16))
    cut = 1800.0
    plain = small(1, 90, PlayedLayer(PAD, _chord(pitches), level_db=-14 - (size if louder else 0), lowpass_hz=cut))
    other = small(1, 90, PlayedLayer(PAD, _chord(pitches), level_db=-14, lowpass_hz=cut if louder else 20_000.0))
    heard = (HeardPassage("the first", plain), HeardPassage("the second", other))
    choices = ("it is louder", "it is only brighter")
    why = (
        f"The second is {size:.1f} dB louder."
        if louder
        else "The second is as loud as the first; its low-pass is open."
    )
    return Question(
        "louder or brighter",
        "What became of it the second time?",
        heard,
        choices,
        int(not louder),
        why,
        f"{size:.1f} dB",
        matched=not louder,
    )


@drill("louder", "Which is louder", "level", 6.0, 0.3, "dB")
def _which_louder(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    second = chance.random() < 0.5
    rows = _chord(tuple(55 + chance.randint(0, 5) + x for x in (0, 4, 7)))
    levels = (-16.0, -16.0 + size) if second else (-16.0 + size, -16.0)
    heard = tuple(
        HeardPassage(label, small(1, 90, PlayedLayer(KEYS, rows, level_db=v))) for label, v in zip(AB, levels)
    )
    return Question(
        "louder",
        "Which is louder?",
        heard,
        AB,
        int(second),
        f"{AB[second].capitalize()} is {size:.1f} dB louder.",
        f"{size:.1f} dB",
        matched=False,
    )


@drill("left or right", "Left or right", "place", 0.6, 0.02, "of the way")
def _side(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    right = chance.random() < 0.5
    rows = [[480 * i, 240, 0, 72 + 2 * (i % 3), 0, 92] for i in range(8)]
    heard = (HeardPassage("a figure", small(1, 110, PlayedLayer(BELL, rows, pan=size if right else -size))),)
    why = f"It stands {100 * size:.0f} % to the {'right' if right else 'left'}."
    return Question(
        "left or right", "On which side is it?", heard, ("left", "right"), int(right), why, f"{100 * size:.0f} %"
    )


@drill("bass out of tune", "Is the bass in tune", "pitch", 60.0, 5.0, "cents", 3)
def _tuned(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    how = chance.randrange(3)
    cents = (-size, 0.0, size)[how]
    root = chance.randint(33, 40)
    bass = [[960 * i, 900, 0, root, 0, 100] for i in range(4)]
    chord = _chord(tuple(root + 24 + x for x in (0, 4, 7)))
    heard = (
        HeardPassage(
            "bass and keys",
            small(2, 84, PlayedLayer(BASS, bass, tune_cents=cents), PlayedLayer(KEYS, chord, level_db=-14)),
        ),
    )
    choices = ("too low", "in tune", "too high")
    why = "The bass is in tune." if how == 1 else f"The bass is {size:.0f} cents too {'low' if how == 0 else 'high'}."
    return Question(
        "bass out of tune", "Is the bass in tune with the keys?", heard, choices, how, why, f"{size:.0f} cents"
    )


@drill("kick and bass", "Kick and bass together", "time", 50.0, 4.0, "ms", 3)
def _together(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    how = chance.randrange(3)
    delay = (-size, 0.0, size)[how]
    root = chance.randint(35, 41)
    bass = [[960 * i, 420, 0, root, 0, 104] for i in range(4)]
    heard = (
        HeardPassage(
            "kick and bass",
            small(2, 96, PlayedLayer(KICK, KICKS), PlayedLayer(BASS, bass, delay_ms=delay, level_db=-9)),
        ),
    )
    choices = ("the bass is early", "together", "the bass is late")
    why = "They are together." if how == 1 else f"The bass is {size:.0f} ms {'early' if how == 0 else 'late'}."
    return Question("kick and bass", "How do they stand to each other?", heard, choices, how, why, f"{size:.0f} ms")


@drill("note values", "Note value of an arpeggio", "time", choices=3)
def _values(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    names, ticks = ("eighths", "eighth triplets", "sixteenths"), (480, 320, 240)
    how = chance.randrange(3)
    step = ticks[how]
    pitches = (60, 64, 67, 72)
    rows = [[i * step, step - 20, 0, pitches[i % 4], 0, 90] for i in range(BAR // step)]
    heard = (
        HeardPassage(
            "an arpeggio over a beat",
            small(2, chance.uniform(92, 126), PlayedLayer(KICK, KICKS), PlayedLayer(BELL, rows, level_db=-14)),
        ),
    )
    why = f"There are {BAR // step // 4} notes to a beat: {names[how]}."
    return Question("note values", "What are its note values?", heard, names, how, why, "")


@drill("swing or straight", "Swing or straight", "time", 0.16, 0.01, "of a pair")
def _swing(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    swung = chance.random() < 0.5
    late = round(960 * size) if swung else 0
    hats = [[960 * (i // 2) + (480 + late) * (i % 2), 110, 0, 42, 0, 84] for i in range(8)]
    snare = PlayedLayer(SNARE, SNARES, level_db=-12)
    beat = small(2, chance.uniform(88, 112), PlayedLayer(KICK, KICKS), snare, PlayedLayer(HAT, hats, level_db=-15))
    heard = (HeardPassage("a beat", beat),)
    why = (
        f"The second eighth comes at {100 * (0.5 + size):.0f} % of the pair."
        if swung
        else "The eighths are even, at 50 %."
    )
    return Question(
        "swing or straight",
        "Swung or straight?",
        heard,
        ("straight", "swung"),
        int(swung),
        why,
        f"{100 * (0.5 + size):.0f} %",
    )


MISSING = {"the root": 0, "the third": 1, "the fifth": 2, "the seventh": 3}


@drill("missing tone", "What is missing from the chord", "chords", choices=4)
def _missing(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    root, minor = chance.randint(50, 58), chance.random() < 0.5
    tones = (0, 3, 7, 10) if minor else (0, 4, 7, 11)
    name = chance.choice(list(MISSING))
    whole = tuple(root + t for t in tones)
    less = tuple(p for i, p in enumerate(whole) if i != MISSING[name])
    heard = (
        HeardPassage("all of it", small(1, 80, PlayedLayer(KEYS, _chord(whole)))),
        HeardPassage("one less", small(1, 80, PlayedLayer(KEYS, _chord(less)))),
    )
    choices, right = placed_right(chance, name, list(MISSING))
    why = f"It is a {'minor' if minor else 'major'} seventh chord without {name}, {Key().pitch_name(whole[MISSING[name]])}."
    return Question("missing tone", "What is missing the second time?", heard, choices, right, why, "")


INVERSIONS = {"root position": 0, "first inversion": 1, "second inversion": 2}


@drill("inversion", "Which inversion", "chords", choices=3)
def _inversion(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    root, minor = chance.randint(48, 58), chance.random() < 0.5
    tones = [root, root + (3 if minor else 4), root + 7]
    name = chance.choice(list(INVERSIONS))
    for _ in range(INVERSIONS[name]):
        tones = [*tones[1:], tones[0] + 12]
    heard = (HeardPassage("a chord", small(1, 80, PlayedLayer(KEYS, _chord(tuple(tones))))),)
    lowest = ("root", "third", "fifth")[INVERSIONS[name]]
    why = f"{name.capitalize()}: its {lowest}, {Key().pitch_name(tones[0])}, lies lowest."
    return Question("inversion", "How does the chord lie?", heard, tuple(INVERSIONS), INVERSIONS[name], why, "")


ROLES = {"the root": 0, "the third": 4, "the fifth": 7, "the major seventh": 11, "the ninth": 14}


@drill("held note", "What is the held note to the chord", "chords", choices=4)
def _held(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    root, name = chance.randint(50, 57), chance.choice(list(ROLES))
    chord = tuple(root + x for x in (0, 4, 7))
    note = root + ROLES[name] + (12 if ROLES[name] < 12 else 0)
    rows = [[0, 7500, 0, note, 0, 96]]
    keys = PlayedLayer(KEYS, _chord(chord, BAR, 3600), 2, level_db=-14)
    heard = (HeardPassage("a note, and a chord under it", small(2, 90, PlayedLayer(BELL, rows, 2, level_db=-9), keys)),)
    choices, right = placed_right(chance, name, chance.sample(list(ROLES), 5)[:4])
    choices, right = _four(choices, name)
    return Question(
        "held note",
        "What is the held note in the chord?",
        heard,
        choices,
        right,
        f"{Key().pitch_name(note)} is {name} of {Key().spell(root % 12)}.",
        "",
    )


def _four(choices: tuple[str, ...], right: str) -> tuple[tuple[str, ...], int]:
    rows = list(choices)
    while len(rows) > 4:
        rows.remove(next(r for r in reversed(rows) if r != right))
    return tuple(rows), rows.index(right)


# low-pass before and after, high-pass before and after, in Hz
FILTERS = {
    "a low-pass opens": (900.0, 16_000.0, 20.0, 20.0),
    "a low-pass closes": (16_000.0, 900.0, 20.0, 20.0),
    "a high-pass opens": (20_000.0, 20_000.0, 900.0, 20.0),
    "a high-pass closes": (20_000.0, 20_000.0, 20.0, 900.0),
}


@drill("filter", "Which filter moved", "sound", choices=4)
def _filter(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    name = chance.choice(list(FILTERS))
    low_a, low_b, high_a, high_b = FILTERS[name]
    rows = _chord(tuple(43 + chance.randint(0, 6) + x for x in (0, 12, 16, 19)))
    before = small(
        1,
        90,
        PlayedLayer("wide-saws", rows, level_db=-16, lowpass_hz=low_a, highpass_hz=high_a),
        PlayedLayer(HAT, HATS, level_db=-20),
    )
    after = small(
        1,
        90,
        PlayedLayer("wide-saws", rows, level_db=-16, lowpass_hz=low_b, highpass_hz=high_b),
        PlayedLayer(HAT, HATS, level_db=-20),
    )
    heard = (HeardPassage("before", before), HeardPassage("after", after))
    edge = f"{min(low_a, low_b):g} Hz" if "low-pass" in name else f"{max(high_a, high_b):g} Hz"
    why = f"{name.capitalize()}, between {edge} and out of the way."
    return Question(
        "filter",
        "Which filter moved from the first to the second?",
        heard,
        tuple(FILTERS),
        list(FILTERS).index(name),
        why,
        "",
    )

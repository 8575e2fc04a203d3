"""Examples of the edits that make more of a beat: a song whose verse plays one, with a fill, toms and a second beat."""

import math

from escalera.core.reading.groove_reading import drum_layers, fills_in, groove_at, groove_beat, phrase_beat
from escalera.core.reading.phrase_notes import line_in
from escalera.core.reading.timeline import timeline
from tests.planned import made
from tests.songs import ids, small_song

SONG = small_song()
V, C, B, P = (ids(SONG)[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad"))
BAR = 3840
ROCK = [[0, "kick", 100], [1920, "kick", 90], [960, "snare", 104], [2880, "snare", 104]] + [
    [t, "closed hat", 70] for t in range(0, BAR, 480)
]
TURN = [[2880, "snare", 60], [3360, "snare", 60]]
BEATEN = made(SONG, ("add_groove", dict(name="Rock", length_ticks=BAR, hits=ROCK, section_id=V)))
ROCK_ID = BEATEN.grooves[0].id
TWO = made(BEATEN, ("add_groove", dict(name="Off", length_ticks=BAR, hits=[[480, "kick", 90]], section_id=C)))
FILLED = made(BEATEN, ("place_fill", dict(section_id=V, name="Turn", length_ticks=BAR, hits=TURN, phrase=0)))
PAIRED = made(SONG, ("set_voicing", dict(layer_id=P, part="pair", value="root and fifth")))
SKINS = made(SONG, ("add_groove", dict(name="Skins", length_ticks=BAR, hits=[[0, d, 90] for d in ("low tom", "mid tom", "high tom")], section_id=V)))  # fmt: skip


def played(song, section=V, phrase=0):
    return phrase_beat(song, timeline(song).span_of(section), phrase)


def notes_of(song, layer_id, section=C):
    span = timeline(song).span_of(section)
    return [(n.tick, n.pitch) for n in line_in(song, span, 0, song.layer_by_id[layer_id]).notes]


def struck(song, bar):
    """The pitch classes that the pad plays at the beginning of a bar of the chorus."""
    return {p % 12 for t, p in notes_of(song, P) if t == bar * BAR}


def kept_where_it_is_too_long(song):
    """A groove joined with itself until it is longer than the phrase is there, and the phrase plays what it played."""
    while (last := song.grooves[-1]) and groove_beat(song, last, song.metre).length_ticks < 4 * BAR:
        song = made(song, ("join_grooves", dict(first_id=last.id, second_id=last.id, section_id=V, phrase=0)))
    longer = made(song, ("join_grooves", dict(first_id=last.id, second_id=last.id, section_id=V, phrase=0)))
    return len(longer.grooves) == len(song.grooves) + 1 and played(longer) == played(song)


def ticks(song, drum, section=V, phrase=0):
    return [h.tick for h in played(song, section, phrase).of(drum)]


def fills(song):
    return [(f.phrase, f.groove.name) for f in fills_in(song, song.section_by_id[V])]


def in_key(song):
    """The toms' pitches as distances from C, in semitones over the lowest octave."""
    found = [dict(drum_layers(song)[d].settings)["hz"] for d in ("low tom", "mid tom", "high tom")]
    pitches = [69 + 12 * math.log2(hz / song.tuning_hz) for hz in found]
    assert all(abs(p - round(p)) < 0.01 for p in pitches) and pitches == sorted(pitches)
    return {round(p) % 12 for p in pitches}


def family_played(song):
    there = song.section_by_id[C]
    full = groove_at(song, there, 0, 4 * BAR)
    return (
        full.variant_of == ROCK_ID and full.made == "hats open; crash on the one" and "crash" in played(song, C).drums
    )


ROWS = {
    "drum_density": (BEATEN, (dict(section_id=V, phrase=0, drum="kick", steps=2), lambda s: ticks(s, "kick") == [0, 1440, 1920, 3360] and ticks(s, "kick", V, 1) == ticks(s, "kick")), (dict(section_id=V, phrase=0, drum="cowbell", steps=-1), "cannot be sparser: it does not play")),
    "roll_hits": (BEATEN, (dict(section_id=V, phrase=1, drum="closed hat", tick=3 * BAR + 2880, beats=1, value="1/32", glide_semitones=5), lambda s: [t for t in ticks(s, "closed hat", V, 1) if t >= 3 * BAR + 2880] == [3 * BAR + 2880 + 120 * i for i in range(8)] and played(s, V, 1).of("closed hat")[-1].velocity == 100 and len(s.section_by_id[V].curves[0].points) == 4 and s.grooves[-1].made == "closed hat roll in 1/32"), (dict(section_id=V, phrase=1, drum="closed hat", tick=99999), "lies outside the phrase")),
    "join_grooves": (TWO, (dict(first_id=ROCK_ID, second_id=TWO.grooves[1].id, section_id=V), lambda s: (s.grooves[-1].name, s.grooves[-1].made, ticks(s, "kick")) == ("Rock + Off", "Rock, then Off", [0, 1920, 4320]) and kept_where_it_is_too_long(s)), (dict(first_id=ROCK_ID, second_id=9999), "Groove 9999 is not in this song")),
    "groove_family": (TWO, (dict(section_id=V, phrase=0, everywhere=True), family_played), (dict(section_id=V, phrase=9), "no phrase 10")),
    "place_fill": (FILLED, (dict(section_id=V, name="Last", length_ticks=BAR, hits=[[2880, "low tom", 50]], over="layer", level="beat"), lambda s: [n for _, n in fills(s)] == ["Last", "Last 2"] and ticks(s, "snare")[-2:] == [3 * BAR + 2880, 3 * BAR + 3360] and played(s, V, 1).of("low tom")[0].velocity > 90 and 3 * BAR in ticks(s, "kick", V, 1)), (dict(section_id=V, phrase=0, name="Other", length_ticks=BAR, hits=TURN), "ends its phrase with “Turn” already. Replace it, or play this one over it")),
    "remove_fill": (FILLED, (dict(section_id=V, phrase=0), lambda s: not fills(s) and played(s) == played(BEATEN)), (dict(section_id=V, phrase=1), "Phrase 2 of Verse ends without a fill")),
    "set_pair_at": (PAIRED, (dict(layer_id=P, chord="F", pair="third and seventh"), lambda s: (struck(s, 0), struck(s, 2)) == ({0, 7}, {9, 0}) and made(s, ("set_key", dict(key="D major"))).layer_by_id[P].voicing.own_pairs == {"G": "third and seventh"}), (dict(layer_id=P, chord="H7", pair="third and seventh"), "is no chord of this song")),
    "pass_notes": (SONG, (dict(section_id=C, layer_id=B, phrase=0, onto=P, notes=[[480, 36]]), lambda s: (480, 36) not in notes_of(s, B) and {(480, 36), (0, 60)} <= set(notes_of(s, P))), (dict(section_id=C, layer_id=B, phrase=0, onto=P), "No notes are chosen")),
    "tune_toms": (SKINS, (dict(), lambda s: in_key(s) <= {c % 12 for c in (s.key.tonic_class, s.key.tonic_class + s.key.degrees[2], s.key.tonic_class + s.key.degrees[4])}), None),
}  # fmt: skip

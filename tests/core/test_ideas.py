"""Ideas without a place: cut out so that they sound alike, offered where they might fit and nowhere else, brought back whole."""

from dataclasses import replace

import pytest

from escalera.core.edits import EDITS
from escalera.core.edits.protection import keep_protected
from escalera.core.ideas import PLACES, Idea, PlaceIdea, cut_pattern, cut_section, fits, fits_of
from escalera.core.ideas.suitability import KINDS
from escalera.core.reading.events import PITCH, layer_events
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import parse_key
from escalera.core.validation.whole import validate
from escalera.errors import EditError
from escalera.services.demo import demo_songs
from tests.songs import ids, small_song

SONG = small_song()
V, C, K, B, P = (ids(SONG)[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))
HARBOUR, ENGINES = demo_songs()


def named(song, name):
    return next(s.id for s in song.sections if s.name == name)


def layer(song, name):
    return next(x.id for x in song.layers if x.name == name)


def do(song, *steps):
    for kind, *fields in steps:
        song = EDITS[kind](*fields).apply(song)
    return song


BELL = cut_pattern(HARBOUR, named(HARBOUR, "Verse 2"), layer(HARBOUR, "Glass bell"), 1)
BREAK = cut_section(HARBOUR, named(HARBOUR, "Break"))
OUT_OF_KEY = replace(
    BELL,
    patterns=tuple(
        replace(p, pattern=type(p.pattern)(7680, [[i * 480, 400, 0, 60 + i, 0, 90] for i in range(12)]))
        for p in BELL.patterns
    ),
)
VERSE = "Verse and chorus of one kind, twice"
TWICE = do(SONG, ("duplicate_section", C))

# kind: rows of (idea, song, section where it fits or None, what is said)
ROWS = {
    "text": [
        (Idea(1, "text", "A voice alone before the second drop"), ENGINES, "Drop 2", "speaks of drop"),
        (Idea(1, "text", "Verse: whisper it"), SONG, "Verse", "speaks of verse"),
        (Idea(1, "text", "the last chorus an octave up"), HARBOUR, "Chorus 3", "speaks of chorus"),
        (Idea(1, "text", "Call the dentist"), ENGINES, None, ""),
        (Idea(1, "text", "A chorus with more air", source="Paper Engines"), HARBOUR, None, ""),
        (Idea(1, "text", "A chorus with more air", source="Harbour Stairs, Break"), HARBOUR, "Chorus 1", "speaks of chorus"),
        (Idea(1, "text", "a bridge"), SONG, None, ""),
    ],
    "pattern": [
        (Idea(1, "pattern", BELL.title, "", BELL), ENGINES, "Drop 2", "silent here all through; from 104 to 126 bpm"),
        (Idea(1, "pattern", BELL.title, "", BELL, source="demo song Harbour Stairs, Verse 2"), ENGINES, None, ""),
        (Idea(1, "pattern", BELL.title, "", BELL, source="demo song Paper Engines, Drop 1"), ENGINES, "Drop 2", "silent here"),
        (Idea(1, "pattern", BELL.title, "", replace(BELL, tempo_bpm=180.0)), ENGINES, None, ""),
        (Idea(1, "pattern", BELL.title, "", OUT_OF_KEY), ENGINES, None, ""),
        (Idea(1, "pattern", "bass", "", cut_pattern(SONG, C, B, 0)), do(SONG, ("remove_section", V)), None, ""),
        (Idea(1, "pattern", BELL.title, "", BELL), do(ENGINES, *(("set_target", s.id, 1, 1) for s in ENGINES.sections)), None, ""),
        (Idea(1, "pattern", BELL.title, "", do(BELL, ("set_metre", "3/4"))), ENGINES, None, ""),
    ],
    "section": [
        (Idea(1, "section", "Break", "", BREAK), ENGINES, "Break", "another way to do Break"),
        (Idea(1, "section", "Break", "", BREAK), HARBOUR, None, ""),
        (Idea(1, "section", "Break", "", do(BREAK, ("set_role", BREAK.sections[0].id, "bridge"))), TWICE, "Chorus 2", "the song has no bridge"),
    ],
    "sample": [
        (Idea(1, "sample", "gulls", seconds=8.05), SONG, "Verse", "it is 4 bars here, 1 % faster"),
        (Idea(1, "sample", "gulls", seconds=7.0), SONG, None, ""),
        (Idea(1, "sample", "gulls", seconds=0.2), SONG, None, ""),
    ],
}  # fmt: skip


def test_every_kind_of_idea_has_rows_where_it_fits_and_where_not():
    assert set(ROWS) == set(KINDS)
    assert all({bool(row[2]) for row in rows} == {True, False} for rows in ROWS.values())


@pytest.mark.parametrize(("idea", "song", "where", "says"), [row for rows in ROWS.values() for row in rows])
def test_an_idea_is_offered_where_it_might_fit_and_nowhere_else(idea, song, where, says):
    found = fits_of(song, idea)
    if where is None:
        assert not found
        return
    best = found[0]
    if idea.kind == "section" and where == "Chorus 2":
        best = next(f for f in found if song.section_by_id[f.section_id].name == where)
    assert song.section_by_id[best.section_id].name == where and says in best.why, [
        (song.section_by_id[f.section_id].name, f.why) for f in found
    ]
    assert [f.section_id for f in fits(song, [idea], best.section_id)] == [best.section_id]


def sounding(song, section_id, layer_id):
    return layer_events(song, timeline(song).span_of(section_id), song.layer_by_id[layer_id]).table.tolist()


@pytest.mark.parametrize("section", ["Verse", "Chorus"])
def test_a_section_cut_out_sounds_as_it_did(section):
    section_id = ids(SONG)[section]
    shaped = do(
        SONG,
        ("shift_section", section_id, 3),
        ("treat", section_id, B, "level_db", -20),
        ("park_body", section_id, "other"),
    )
    alone = validate(cut_section(shaped, section_id))
    assert {x.id for x in alone.layers} == {p.layer_id for p in shaped.section_by_id[section_id].placements}
    for each in alone.layers:
        assert sounding(alone, section_id, each.id) == sounding(shaped, section_id, each.id)
    assert not alone.sections[0].parked


def test_a_pattern_cut_out_has_the_chords_that_were_under_it():
    alone = validate(cut_pattern(SONG, C, B, 1))
    span = timeline(SONG).span_of(C)
    low, length = span.phrase_ticks()[1][0], timeline(alone).spans[0].length_ticks
    there = [row[PITCH] for row in sounding(SONG, C, B) if low <= row[0] < low + length]
    assert [row[PITCH] for row in sounding(alone, C, B)] == there
    with pytest.raises(EditError, match="is silent in this phrase"):
        cut_pattern(SONG, V, P, 0)
    with pytest.raises(EditError, match="plays nothing"):
        cut_section(do(SONG, ("add_section", "Empty")), max(s.id for s in do(SONG, ("add_section", "Empty")).sections))


@pytest.mark.parametrize("place", PLACES)
def test_an_idea_is_brought_back_in_the_key_of_the_song(place):
    idea = BELL if place == "layer" else BREAK
    minor = replace(idea, key=parse_key("D minor"))
    edit = PlaceIdea(named(ENGINES, "Verse"), minor, place)
    after = validate(edit.apply(ENGINES))
    assert PLACES[place].split()[0] in edit.summary(ENGINES)
    if place == "layer":
        plucks = layer(ENGINES, "Plucks")
        assert sounding(after, named(after, "Verse"), plucks) and len(after.layers) == len(ENGINES.layers)
        return
    body = after.section_by_id[named(after, "Verse")].parked[0].body if place == "option" else after.sections[2]
    assert body.name == "Break" if place == "option" else body.name == "Break 2"
    first = minor.sections[0].progression.changes[0][1]
    steps = parse_key("F# minor").tonic_fifths - minor.key.tonic_fifths
    assert body.progression.changes[0][1] == first.moved(steps)
    assert len(body.placements) == len(BREAK.sections[0].placements)
    assert {p.layer_id for p in body.placements} <= {x.id for x in after.layers}


def test_what_was_sent_is_given_nothing_new_to_play():
    plucks = layer(ENGINES, "Plucks")
    held = do(ENGINES, ("hold_layer", plucks, "the guitarist"))
    for place, idea in (("layer", BELL), ("option", BREAK)):
        assert keep_protected(held, validate(PlaceIdea(named(held, "Verse"), idea, place).apply(held)))
    assert sounding(PlaceIdea(named(held, "Verse"), BELL, "layer").apply(held), named(held, "Verse"), plucks) == []


def test_a_section_never_goes_on_one_layer():
    with pytest.raises(EditError, match="is a whole section"):
        PlaceIdea(V, BREAK, "layer").apply(SONG)

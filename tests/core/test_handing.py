"""What is handed over: notes as they are written down, names of files, who needs what, tables, what is not ready."""

from dataclasses import replace

import pytest

from escalera.cleaning import neutral_cell
from escalera.core.edits import EDITS
from escalera.core.handing.file_names import SCHEMES, ToName, file_names, plain_name
from escalera.core.handing.handed_tables import automation_rows, credits_text, marker_rows, words_text
from escalera.core.handing.heard_stems import HEARD, StemHeard, heard_points
from escalera.core.handing.readiness import READY, not_ready
from escalera.core.handing.receivers import PARTS, RECEIVERS, parts_for
from escalera.core.handing.recipes import recipes
from escalera.core.handing.sheets import lead_sheet, part_sheets
from escalera.core.time.tempo import TempoPoint
from escalera.errors import InputError
from escalera.formats.tables import csv_text
from escalera.services.demo import demo_songs
from tests.singing import GUIDED, TAKEN, C, V, a_take
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
P, B = NAME["Soft pad"], NAME["Plucked bass"]
HARBOUR, ENGINES = demo_songs()


@pytest.mark.parametrize(
    "song",
    [SONG, GUIDED, HARBOUR, EDITS["set_metre"]("7/8").apply(GUIDED), EDITS["set_metre"]("6/8").apply(GUIDED)],
    ids=["small", "sung", "harbour", "seven", "compound"],
)
def test_every_bar_of_a_sheet_is_full_and_says_what_sounds(song):
    for sheet in (lead_sheet(song), part_sheets(song)):
        for part in sheet.parts:
            for bar in part.bars:
                at = 0
                for note in bar.notes:
                    assert note.start == at and note.length > 0, (part.name, bar.number)
                    at += note.length
                assert at == bar.metre.bar_ticks, (part.name, bar.number)
    lead = lead_sheet(song).parts[0]
    assert [b.section for b in lead.bars if b.section] == [s.name for s in song.sections] or any(
        b.repeat_from for b in lead.bars
    )
    assert all(b.chords for b in lead.bars[:1])


def test_melody_words_and_chords_stand_where_they_are_sung():
    bars = lead_sheet(GUIDED).parts[0].bars
    words = [(b.number, n.syllable, n.syllabic) for b in bars for n in b.notes if n.syllable]
    assert (
        [w for _, w, _ in words][:4] == ["home", "by", "sea", "car"]
        and words[3][2] == "begin"
        and words[4][1:] == ("ry", "end")
    )
    struck = [n for b in bars for n in b.notes if n.pitches and not n.tied_from]
    assert len(struck) == 48 and {n.value for n in struck} <= {"whole", "half", "quarter", "eighth", "16th"}
    twice = EDITS["duplicate_section"](V).apply(EDITS["set_lyric"](V, "").apply(GUIDED))
    folded = lead_sheet(twice).parts[0].bars
    assert folded[0].repeat_from and folded[7].repeat_to and len(folded) == len(bars), (
        "what comes again at once is written once"
    )


def test_triplets_are_written_as_triplets():
    rows = [[320 * i, 300, 0, 60 + i, 0, 90] for i in range(12)]
    song = EDITS["add_layer"]("plucked-lead", "", "", "", "Threes", 3840, rows).apply(SONG)
    layer = song.layers[-1]
    song = EDITS["place"](C, layer.id, layer.pattern_id, start_ticks=0, end_ticks=3840).apply(song)
    notes = [
        n for b in next(p for p in part_sheets(song).parts if p.name == layer.name).bars for n in b.notes if n.pitches
    ]
    assert len(notes) == 12 and all((n.triplet, n.value, n.length) == (True, "eighth", 320) for n in notes)


def test_names_of_files_are_safe_on_all_systems_and_each_stands_once():
    assert (
        plain_name("../../etc/passwd") == "etc-passwd"
        and plain_name("Ünter/🎵") == "unter"
        and plain_name("🎵") == "song"
    )
    assert plain_name("CON") == "con-file" and plain_name("x" * 300) == "x" * 60
    files = [ToName(1, "Kick", "drums"), ToName(2, "Kick", "drums"), ToName(3, "=cmd|", "low end")]
    for scheme in SCHEMES:
        names = file_names("Tin: Quay", files, scheme)
        assert len(set(names)) == 3 and all(c.isalnum() or c == "-" for n in names for c in n)
    assert file_names("Tin Quay", files, "family")[2] == "low-end-03-cmd" and file_names("Tin Quay", files, "name")[
        :2
    ] == ["kick", "kick-2"]
    with pytest.raises(InputError, match="no way|not a way"):
        file_names("x", files, "by moon")


def test_who_needs_what():
    assert parts_for("mixer") and set(parts_for("oneself")) == set(PARTS) == set(parts_for())
    assert parts_for("", "dry, midi") == ("midi", "dry") and all(set(r.parts) <= set(PARTS) for r in RECEIVERS.values())
    for receiver, only, says in (("drumer", "", "is no receiver"), ("", "midi,dri", "is no part")):
        with pytest.raises(InputError, match=says):
            parts_for(receiver, only)


def test_tables_and_texts_say_what_is_there_and_no_cell_is_a_formula():
    song = EDITS["treat"](C, P, "pan", -0.4).apply(EDITS["rename_section"](V, "=1+1").apply(SONG))
    table = csv_text(automation_rows(song))
    assert "Soft pad" in table and ",-0.4," in table and neutral_cell("=1+1") in csv_text(marker_rows(song))
    assert not any(cell[:1] in "=+@" for line in csv_text(marker_rows(song)).splitlines() for cell in line.split(","))
    assert "home by sea" in words_text(GUIDED) and "No words" in words_text(SONG)
    assert (
        "Somebody" in credits_text(SONG.with_layer(replace(SONG.layers[0], sent_by="Somebody")))
        and "not cleared" in credits_text(TAKEN)
        or "cleared" in credits_text(TAKEN)
    )
    told = recipes(HARBOUR)
    assert all(x.name.upper() in told for x in HARBOUR.layers) and "Hz" in told and "dB" in told and "limiter" in told


def named(song, name):
    return song.with_layer(replace(song.layers[0], name=name))


PLAIN = replace(SONG, layers=tuple(replace(x, reason="why") for x in SONG.layers))
# rule: a song where it fires, one where it does not
ROWS = {
    "not cleared": (EDITS["add_take"](**{k: {**v, "licence": "unknown"} if k == "sample" else v for k, v in a_take(GUIDED).items()}).apply(GUIDED), PLAIN),
    "names": (named(PLAIN, "Track 3"), PLAIN),
    "reasons": (SONG, PLAIN),
    "empty": (EDITS["add_layer"]("glass-bell").apply(PLAIN), PLAIN),
    "muted": (PLAIN.with_layer(replace(PLAIN.layers[0], muted=True)), PLAIN.with_layer(replace(PLAIN.layers[0], muted=True, aside="too much"))),
    "not printed": (PLAIN.with_layer(replace(PLAIN.layers[1], sound_key="bank-33", settings=())), PLAIN),
    "stand-ins": (PLAIN.with_layer(replace(PLAIN.layers[0], stand_in=True)), PLAIN),
    "sent": (EDITS["treat"](NAME["Chorus"], P, "level_db", -20).apply(PLAIN.with_layer(replace(PLAIN.layer_by_id[P], sent_by="Somebody"))), PLAIN.with_layer(replace(PLAIN.layer_by_id[P], sent_by="Somebody"))),
    "takes": (EDITS["want_voices"](C, ["double left"]).apply(GUIDED), GUIDED),
    "tempo": (PLAIN.with_section(replace(PLAIN.sections[0], tempo_changes=(TempoPoint(0, 90.0),))), PLAIN),
    "not carried": (replace(PLAIN, tuning_hz=432.0), PLAIN),
    "ending": (EDITS["add_section"]("Nothing", "", 2).apply(PLAIN), PLAIN),
}  # fmt: skip


@pytest.mark.parametrize("rule", READY)
def test_what_is_not_ready_is_said_with_its_remedy(rule):
    there, not_there = ROWS[rule]
    found = [p for p in not_ready(there) if p.rule == rule]
    assert found and all(p.said.endswith(".") and p.remedy.endswith(".") for p in found)
    assert rule not in {p.rule for p in not_ready(not_there)}


# rule: a stem in which it fires, one in which it does not
STEMS = {
    "silent stem": (StemHeard(P, -120.0), StemHeard(P, -60.0)),
    "clipping stem": (StemHeard(P, 0.4), StemHeard(P, -0.1)),
    "tail cut": (StemHeard(P, -6.0, (3, 7)), StemHeard(P, -6.0)),
    "end cut": (StemHeard(P, -6.0, cut_at_end=True), StemHeard(P, -6.0)),
}


@pytest.mark.parametrize("rule", HEARD)
def test_what_is_heard_of_a_stem_is_said_with_its_remedy(rule):
    there, not_there = STEMS[rule]
    (point,) = heard_points(SONG, [there, StemHeard(999, 9.0)])
    assert (point.rule, point.layer_id) == (rule, P) and point.said.endswith(".") and point.remedy.endswith(".")
    assert not heard_points(SONG, [not_there])

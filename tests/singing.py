"""Songs with voices: a guide, words, takes, and a row for every edit about them."""

from dataclasses import asdict, replace

from escalera.core.document.singing import packed_noises, packed_notes
from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from escalera.core.voices.comp import CompPart, comp_of
from escalera.core.voices.harmonies import voice_line
from escalera.core.voices.melody import guide_of, melody_of
from escalera.core.voices.voice_stack import breathless_s, stack_of
from escalera.core.voices.word_places import lines_of, words_laid
from tests.recordings import known_sample
from tests.songs import ids, small_song

# two bars that are sung as two lines: (tick, ticks, pitch)
TUNE = [(0, 900, 64), (960, 900, 65), (1920, 900, 67), (3840, 900, 69), (4800, 900, 67), (5760, 1200, 65)]
WORDS = "home by sea\ncarry me"
BARE = small_song()
V, C = (ids(BARE)[n] for n in ("Verse", "Chorus"))


def with_guide(song, higher=5):
    rows = [[t, d, 0, p, 0, 90] for t, d, p in TUNE]
    song = EDITS["add_layer"]("vowel-voice", "Guide voice", rows=rows, length_ticks=7680).apply(song)
    guide = next(x for x in song.layers if x.name == "Guide voice")
    for section_id, up in ((V, 0), (C, higher)):
        song = EDITS["place"](section_id, guide.id, guide.pattern_id).apply(song)
        song = EDITS["vary"](section_id, guide.id, transpose_semitones=up).apply(song) if up else song
    return song


def a_take(song, section_id=V, late_s=0.0, cents=0.0, content="a" * 32, **more):
    """The fields of a take that sings a section's melody, so late and so far off, two seconds into its recording."""
    span = timeline(song).span_of(section_id)
    notes = [
        (2 + span.seconds_at(n.start) + late_s, 2 + span.seconds_at(n.end) + late_s, n.pitch + cents / 100)
        for n in melody_of(song, span)
    ]
    ends = [n[1] for n in notes]
    take = {
        "section_id": section_id, "zero_s": 2.0, "notes": packed_notes(notes), "noises": packed_noises([(ends[2] + 0.05, ends[2] + 0.25, "breath"), (1.9, 1.98, "hiss")]),
        **more,
    }  # fmt: skip
    sample = asdict(
        replace(
            known_sample(name=f"Take {content[:2]}")[0], content=content, seconds=span.length_seconds + 3, kind="voice"
        )
    )
    return {"take": take, "sample": sample}


GUIDED = EDITS["set_lyric"](V, WORDS, "first").apply(with_guide(BARE))
TAKEN = EDITS["add_take"](**a_take(GUIDED)).apply(GUIDED)
TAKEN = EDITS["add_take"](**a_take(TAKEN, late_s=0.014, cents=9, content="b" * 32)).apply(TAKEN)
FIRST, SECOND = (t.id for t in TAKEN.takes)
TIED = EDITS["tie_moment"](V, 2, "stop").apply(TAKEN)
TWICE = EDITS["set_lyric"](V, "la la la", "other", True).apply(GUIDED)
SIMULATED = EDITS["simulate_voice"](C, "third above left").apply(GUIDED)
HALF = timeline(TAKEN).span_of(V).length_ticks // 2
HUMMED = replace(TAKEN, layers=tuple(x for x in TAKEN.layers if x.name != "Guide voice"), sections=tuple(
    replace(s, placements=tuple(p for p in s.placements if p.layer_id != guide_of(TAKEN).id), treatments=()) for s in TAKEN.sections))  # fmt: skip


def pieces(song, part="lead", section_id=V):
    return comp_of(song, song.section_by_id[section_id], part)


def states(song, section_id=V):
    return {s.part.key: s.state for s in stack_of(song, song.section_by_id[section_id])}


def line(song, section_id=V):
    return [n.pitch for n in melody_of(song, timeline(song).span_of(section_id))]


def words(song, section_id=V):
    return [w.text for row in lines_of(song, song.section_by_id[section_id]) for w in row.words]


# kind: (the song it is made on, what it does and how that is seen, what is refused and with which words)
ROWS = {
    "add_take": (GUIDED, (a_take(GUIDED), lambda s: pieces(s) == (CompPart(0, 2 * HALF, s.takes[0].id),) and states(s)["lead"] == "sung" and len(s.layers) == 5), (a_take(GUIDED, section_id=V, voice="shout"), "take’s voice “shout”")),
    "set_take": (TAKEN, (dict(take_id=FIRST, values={"reason": "warm", "aside": True}), lambda s: s.take_by_id[FIRST].reason == "warm" and s.take_by_id[FIRST].aside), (dict(take_id=FIRST, values={"notes": ""}), "no “notes” to be set")),
    "remove_take": (TAKEN, (dict(take_id=FIRST), lambda s: len(s.takes) == 1 and not pieces(s)), (dict(take_id=9999), "Take 9999 is not in this song")),
    "comp": (TAKEN, (dict(section_id=V, part="lead", take_id=SECOND, low_ticks=HALF, high_ticks=2 * HALF, seams="exact"), lambda s: [(p.low, p.high, p.take_id) for p in pieces(s)] == [(0, HALF, FIRST), (HALF, 2 * HALF, SECOND)]), (dict(section_id=V, part="lead", take_id=SECOND, low_ticks=500, high_ticks=500), "is empty in Verse")),
    "use_as_double": (TAKEN, (dict(take_id=SECOND, part="double left"), lambda s: states(s)["double left"] == "sung" and s.take_by_id[SECOND].voice == "double left" and next(x for x in s.layers if x.voice == "double left").pan < -0.5), (dict(take_id=FIRST, part="double left"), "beside itself it would only be louder")),
    "polish_take": (TAKEN, (dict(take_id=FIRST, polish={"tune": 1.0}, sample={**a_take(GUIDED)["sample"], "content": "c" * 32}), lambda s: s.take_by_id[FIRST].played == "c" * 32 and any(x.clips and x.clips[0].sample == "c" * 32 for x in s.layers) and len(pieces(s)) == 1), (dict(take_id=FIRST, polish={"tune": 3}, sample={}), "polish’s tune")),
    "set_lyric": (GUIDED, (dict(section_id=V, text="out on the sea\n🎶 again _"), lambda s: words(s) == ["out", "on", "the", "sea", "again"] and s.section_by_id[V].lyrics[0].name == "first"), (dict(section_id=V, text="na " * 34_000), "102,000 characters; a section takes 10,000")),
    "choose_lyric": (TWICE, (dict(section_id=V, number=0), lambda s: words(s)[0] == "home"), (dict(section_id=V, number=2), "2 versions of its words, no version 3")),
    "remove_lyric": (TWICE, (dict(section_id=V, number=0), lambda s: len(s.section_by_id[V].lyrics) == 1 and words(s) == ["la"] * 3), (dict(section_id=C, number=0), "0 versions")),
    "replace_word": (GUIDED, (dict(section_id=V, word=2, text="land"), lambda s: words(s) == ["home", "by", "land", "carry", "me"] and s.section_by_id[V].lyrics[0].lines.count("\n") == 1), (dict(section_id=C, word=0, text="x"), "has no words yet")),
    "fill_nonsense": (GUIDED, (dict(section_id=V), lambda s: words(s) == ["la"] * 24 and len(lines_of(s, s.section_by_id[V])) == 8 and len(s.section_by_id[V].lyrics) == 2), (dict(section_id=V, syllable="zap"), "is not a syllable")),
    "divide_word": (GUIDED, (dict(text="ca-RRY"), lambda s: s.divided == (("carry", "ca-RRY"),) and [w.stress for w in lines_of(s, s.section_by_id[V])[1].words] == ["01", "0"]), (dict(text="a - b"), "no word divided by hyphens")),
    "set_language": (GUIDED, (dict(language="de"), lambda s: s.language == "de"), (dict(language="xx"), "is not a language")),
    "tie_moment": (GUIDED, (dict(section_id=V, word=2, what="stop", beats=2), lambda s: s.section_by_id[V].moments[0].word == 2), (dict(section_id=V, word=9, what="stop"), "has 5 words, no word 10")),
    "untie_moment": (TIED, (dict(section_id=V, number=0), lambda s: not s.section_by_id[V].moments), (dict(section_id=V, number=4), "has 1 moments, no moment 5")),
    "want_voices": (GUIDED, (dict(section_id=C, parts=["double right", "double left"]), lambda s: s.section_by_id[C].wanted == ("double left", "double right") and states(s, C)["double left"] == "missing"), (dict(section_id=C, parts=["shout"]), "is not a voice")),
    "want_voice": (GUIDED, (dict(section_id=C, part="ad libs"), lambda s: s.section_by_id[C].wanted == ("ad libs",)), (dict(section_id=C, part="shout"), "is not a voice")),
    "simulate_voice": (GUIDED, (dict(section_id=C, part="fourth below left"), lambda s: states(s, C)["fourth below left"] == "simulated" and all(a < b for a, b in zip([n.pitch for n in voice_line(s, timeline(s).span_of(C), "fourth below left").notes], line(s, C)))), (dict(section_id=C, part="ad libs"), "ad libs are sung or played, not worked out")),
    "drop_voice": (SIMULATED, (dict(section_id=C, part="third above left"), lambda s: states(s, C)["third above left"] == "missing" and not any(x.voice == "third above left" for x in s.layers)), (dict(section_id=V, part="oohs left"), "Nobody simulates oohs left")),
    "name_guide": (GUIDED, (dict(layer_id=ids(BARE)["Soft pad"]), lambda s: guide_of(s).name == "Soft pad"), (dict(layer_id=ids(BARE)["Round kick"]), "is a drum")),
    "set_range": (GUIDED, (dict(low=55, high=74), lambda s: (s.singer_low, s.singer_high) == (55, 74)), (dict(low=60, high=62), "too small to sing in")),
    "take_to_line": (HUMMED, (dict(take_id=FIRST, amount=1.0), lambda s: line(s)[:6] == [64, 65, 67, 69, 67, 65] and guide_of(s).voice == "lead"), (dict(take_id=FIRST, amount=4), "lies outside 0 to 1")),
    "take_tempo": (TAKEN, (dict(take_id=FIRST), lambda s: len(s.section_by_id[V].tempo_changes) >= 3 and all(abs(p.bpm - 120) < 6 for p in s.section_by_id[V].tempo_changes)), (dict(take_id=9999), "Take 9999 is not in this song")),
    "take_to_beat": (TAKEN, (dict(take_id=FIRST, low="kick", middle="snare", high="none"), lambda s: s.grooves and s.grooves[-1].feel == "beaten"), (dict(take_id=FIRST, low="gong"), "is not a drum")),
}  # fmt: skip


def laid_words(song, section_id=V):
    """(syllable, start tick) of a section's words on its melody."""
    return [(p.text, p.start) for p in words_laid(song, timeline(song).span_of(section_id)).places]


def breathless():
    rows = [[960 * i, 950, 0, 64 + i % 4, 0, 90] for i in range(8)]
    song = EDITS["add_layer"]("vowel-voice", "Guide voice", rows=rows, length_ticks=7680).apply(BARE)
    guide = next(x for x in song.layers if x.name == "Guide voice")
    return EDITS["place"](V, guide.id, guide.pattern_id).apply(song)


BREATHLESS = breathless()
WANTING = EDITS["want_voices"](C, ["third above left", "oohs left"]).apply(GUIDED)
HEAVY = EDITS["set_lyric"](C, "one two three four five six seven eight nine ten\n" * 3).apply(GUIDED)
AGAIN = EDITS["duplicate_section"](V).apply(GUIDED)
V2 = next(s.id for s in AGAIN.sections if s.id not in (V, C))
UNEQUAL = EDITS["set_lyric"](V2, "home by the silver sea\ncarry me").apply(AGAIN)
EQUAL = EDITS["set_lyric"](V2, "far by night\ncarry us").apply(AGAIN)
CHECK_ROWS = {
    "chorus height": (with_guide(BARE, 0), GUIDED), "breath": (BREATHLESS, GUIDED), "stack": (WANTING, SIMULATED), "heavy words": (HEAVY, GUIDED), "unequal lines": (UNEQUAL, EQUAL),
}  # fmt: skip
MOVE_SONGS = {"sung": GUIDED, "stacked": SIMULATED, "wanting": WANTING, "breathless": BREATHLESS}


def gained(*parts):
    return lambda before, after, s: all(
        states(before, s.id).get(p) in (None, "missing") and states(after, s.id)[p] == "simulated" for p in parts
    )


MOVE_ROWS = {
    "double the lead": ("sung", "Chorus", gained("double left", "double right"), ("breathless", "Chorus")),
    "one voice": ("stacked", "Chorus", lambda a, b, s: list(states(b, s.id).values()) == ["simulated", "missing"], ("sung", "Chorus")),
    "answer the lead": ("sung", "Verse", gained("answer"), ("breathless", "Verse")),
    "last line": ("sung", "Verse", lambda a, b, s: len(melody_of(b, timeline(b).span_of(s.id), "third above left")) == 3, ("stacked", "Chorus")),
    "simulate voices": ("wanting", "Chorus", gained("third above left", "oohs left"), ("sung", "Chorus")),
    "sung gaps": ("breathless", "Verse", lambda a, b, s: breathless_s(b, timeline(b).span_of(s.id)) < 6 and len(line(a, s.id)) == len(line(b, s.id)), ("sung", "Verse")),
}  # fmt: skip

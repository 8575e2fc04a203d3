"""Small songs for tests, and Hypothesis strategies for them."""

from __future__ import annotations

from hypothesis import strategies as st

from escalera.core.song.document import Song
from escalera.core.song.edits import layers as L
from escalera.core.song.edits import sections as S
from escalera.core.song.edits import tiles as T
from escalera.core.song.edits import whole as W

KICK = [[960 * i, 240, 0, 36, 0, 100] for i in range(4)]
HATS = [[480 * i, 120, 0, 42, 0, 80] for i in range(8)]
BASS = [[480 * i, 400, 2, 0, 0, 100] for i in range(8)]
PADS = [[0, 3800, 3, i, 0, 90] for i in range(3)]


def small_song() -> Song:
    """Two sections of eight bars, kick, bass and pad; the pad plays only in the second section."""
    song = Song(title="Small", tempo_bpm=120.0)
    for name in ("Verse", "Chorus"):
        song = S.AddSection(name, "", 8).apply(song)
    song = W.SetChords("C | Am | F | G").apply(song)
    for sound, rows in (("round-kick", KICK), ("plucked-bass", BASS), ("soft-pad", PADS)):
        song = L.AddLayer(sound, rows=rows, length_ticks=3840).apply(song)
    for section in song.sections:
        for layer in song.layers:
            if layer.sound_key != "soft-pad" or section.name == "Chorus":
                song = T.Place(section.id, layer.id, layer.pattern_id).apply(song)
    return song


def ids(song: Song) -> dict[str, int]:
    """Ids by name: sections, layers, and patterns as 'pattern of <layer>'."""
    found = {s.name: s.id for s in song.sections} | {x.name: x.id for x in song.layers}
    return found | {f"pattern of {x.name}": x.pattern_id for x in song.layers}


def edits_for(song: Song) -> st.SearchStrategy:
    """Edits that mostly apply to `song`."""
    section = st.sampled_from([s.id for s in song.sections])
    layer = st.sampled_from([x.id for x in song.layers] or [0])
    choices = [
        st.builds(S.AddSection, st.sampled_from(["Verse", "Bridge", "Drop"]), st.just(""), st.integers(1, 9), section),
        st.builds(S.RemoveSection, section),
        st.builds(S.MoveSection, section, st.sampled_from([-1, 1])),
        st.builds(S.SplitSection, section, st.integers(1, 7)),
        st.builds(S.MergeSections, section),
        st.builds(S.DuplicateSection, section),
        st.builds(S.ResizeSection, section, st.integers(1, 12)),
        st.builds(S.SetTarget, section, st.floats(0, 10), st.floats(0, 10)),
        st.builds(S.ShiftSection, section, st.integers(-3, 3)),
        st.builds(T.ToggleTile, section, layer, st.integers(0, 2)),
        st.builds(T.Lift, section, layer, st.integers(0, 1)),
        st.builds(T.Vary, section, layer, st.integers(0, 1), keep=st.sampled_from([0.5, 1.0]), double=st.booleans(),
                  level_end_db=st.sampled_from([0.0, -6.0]), lowpass_end_hz=st.sampled_from([None, 900.0])),
        st.builds(L.SetControl, layer, st.just("level_db"), st.integers(-30, 0)),
        st.builds(L.SetControl, layer, st.just("lowpass_hz"), st.sampled_from([400.0, 20000.0])),
        st.builds(W.SetTempo, st.integers(60, 180)),
        st.builds(W.SetMetre, st.sampled_from(["3/4", "4/4", "7/8"]), st.none() | section),
    ]  # fmt: skip
    return st.one_of(choices)

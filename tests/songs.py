"""Small songs for tests, and Hypothesis strategies for them."""

from __future__ import annotations

from dataclasses import dataclass

from hypothesis import strategies as st

from escalera.core.commands.layout_commands import Arrange, LayOut
from escalera.core.document.carriers import TENSION_SHAPES
from escalera.core.document.days import FIRST, LAST
from escalera.core.document.song import Song
from escalera.core.edits import body_edits as B
from escalera.core.edits import curve_edits as A
from escalera.core.edits import fill_edits as F
from escalera.core.edits import form_edits as Q
from escalera.core.edits import groove_edits as G
from escalera.core.edits import groove_material_edits as M
from escalera.core.edits import harmony_edits as H
from escalera.core.edits import join_edits as J
from escalera.core.edits import judgement_edits as R
from escalera.core.edits import layer_edits as L
from escalera.core.edits import line_edits as N
from escalera.core.edits import low_end_edits as X
from escalera.core.edits import note_edits as Y
from escalera.core.edits import placed_devices, target_edits
from escalera.core.edits import section_edits as S
from escalera.core.edits import song_edits as W
from escalera.core.edits import sound_edits as D
from escalera.core.edits import stand_in_edits as I
from escalera.core.edits import tile_edits as T
from escalera.core.edits import voice_edits as Z
from escalera.core.edits.edit import section_of
from escalera.core.edits.swing_edits import SetSwing
from escalera.core.lines.makers import MAKERS
from escalera.core.lines.transformations import TRANSFORMATIONS
from escalera.core.moves import apply_move, moves_for
from escalera.core.palette.effects import EFFECT_BY_KEY
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.core.planning import people_edits as P
from escalera.core.planning import work_edits as K
from escalera.errors import EditError

KICK = [[960 * i, 240, 0, 36, 0, 100] for i in range(4)]
HATS = [[480 * i, 120, 0, 42, 0, 80] for i in range(8)]
BASS = [[480 * i, 400, 2, 0, 0, 100] for i in range(8)]
PADS = [[0, 3800, 3, i, 0, 90] for i in range(3)]


def small_song() -> Song:
    """Two sections of eight bars, kick, bass and pad; the pad plays only in the second section."""
    song = Song(title="Small", tempo_bpm=120.0)
    for name in ("Verse", "Chorus"):
        song = S.AddSection(name, "", 8).apply(song)
    song = H.SetChords("C | Am | F | G").apply(song)
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


def owners(song: Song) -> st.SearchStrategy[str]:
    return st.sampled_from([f"layer.{x.id}" for x in song.layers] + ["bus.chords", "bus.drums", "master"])


def lanes(song: Song) -> st.SearchStrategy[str]:
    """Lanes of effects and places, whose values may all be between 0.4 and 0.9."""
    found = [f"layer.{x.id}.pan" for x in song.layers]
    for owner, devices in [(f"layer.{x.id}", x.devices) for x in song.layers] + [("master", song.master)]:
        found += [
            f"{owner}.fx.{d.id}.{p.key}" for d in devices for p in d.kind.parameters if p.low <= 0.4 and p.high >= 0.9
        ]
    return st.sampled_from(found or ["master.level_db"])


@dataclass(frozen=True)
class MoveOf:
    """Some move of a section, as an edit."""

    section_id: int
    number: int

    def apply(self, song: Song) -> Song:
        found = list(moves_for(song, section_of(song, self.section_id)))
        if not found:
            raise EditError("nothing applies")
        return apply_move(song, found[self.number % len(found)])

    def summary(self, song: Song) -> str:
        return f"move {self.number} of section {self.section_id}"


@dataclass(frozen=True)
class Exchange:
    """Some parked body of a section, exchanged for the one that stands there, as an edit."""

    section_id: int
    number: int

    def apply(self, song: Song) -> Song:
        parked = section_of(song, self.section_id).parked
        if not parked:
            raise EditError("nothing is parked")
        return B.ExchangeBody(self.section_id, parked[self.number % len(parked)].id).apply(song)

    def summary(self, song: Song) -> str:
        return f"exchange of section {self.section_id}"


def edits_for(song: Song) -> st.SearchStrategy:
    """Edits that mostly apply to `song`."""
    section = st.sampled_from([s.id for s in song.sections])
    layer = st.sampled_from([x.id for x in song.layers] or [0])
    groove = st.sampled_from([g.id for g in song.grooves] or [0])
    device = st.sampled_from([d.id for s in song.sections for d in s.devices] or [0])
    choices = [
        st.builds(S.AddSection, st.sampled_from(["Verse", "Bridge", "Drop"]), st.just(""), st.integers(1, 9), section),
        st.builds(S.RemoveSection, section),
        st.builds(S.MoveSection, section, st.sampled_from([-1, 1])),
        st.builds(S.SplitSection, section, st.integers(1, 7)),
        st.builds(S.MergeSections, section),
        st.builds(S.DuplicateSection, section),
        st.builds(S.ResizeSection, section, st.integers(1, 12)),
        st.builds(target_edits.SetTarget, section, st.floats(0, 10), st.floats(0, 10)),
        st.builds(
            J.AddDevice,
            section,
            st.sampled_from(sorted(JOIN_KINDS)),
            st.none() | st.integers(-8000, 4000),
            st.none() | st.integers(1, 9000),
        ),
        st.builds(J.NudgeDevice, section, device, st.integers(-2000, 2000), st.sampled_from(["whole", "start", "end"])),
        st.builds(J.ParkDevice, section, device, st.booleans()),
        st.builds(
            J.SetBuild,
            section,
            st.integers(1, 8),
            st.sampled_from(TENSION_SHAPES),
            st.lists(layer, max_size=2),
            st.just(None),
            st.lists(st.sampled_from([3840, 1920, 960, 480]), max_size=3),
            st.booleans(),
            st.booleans(),
        ),
        st.builds(J.CopyJoin, section, section),
        st.builds(placed_devices.WriteDevice, section, device),
        st.builds(target_edits.LiftPhraseTarget, section, st.integers(0, 3), st.floats(-3, 3)),
        st.builds(S.ShiftSection, section, st.integers(-3, 3)),
        st.builds(T.ToggleTile, section, layer, st.integers(0, 2)),
        st.builds(T.Lift, section, layer, st.integers(0, 1)),
        st.builds(
            T.Vary,
            section,
            layer,
            st.integers(0, 1),
            keep=st.sampled_from([0.5, 1.0]),
            double=st.booleans(),
            level_end_db=st.sampled_from([0.0, -6.0]),
            lowpass_end_hz=st.sampled_from([None, 900.0]),
        ),
        st.builds(L.SetControl, layer, st.just("level_db"), st.integers(-30, 0)),
        st.builds(L.SetControl, layer, st.just("lowpass_hz"), st.sampled_from([400.0, 20000.0])),
        st.builds(D.SetValue, layer.map(lambda i: f"layer.{i}.sound.body_s"), st.floats(0.05, 0.5)),
        st.builds(D.AddEffect, owners(song), st.sampled_from(sorted(EFFECT_BY_KEY))),
        st.builds(D.AddStack, layer, st.sampled_from(["rim-knock", "sub-sine"])),
        st.builds(D.SetDuckBy, layer, st.just(-1) | layer),
        st.builds(L.SetControl, layer, st.sampled_from(["duck_db", "send.echo", "send.shimmer"]), st.integers(-6, 6)),
        st.builds(
            A.SetCurve, section, lanes(song), st.just([[0, 0.4, "wave"], [1920, 0.9, "steps"], [5000, 0.5, "line"]])
        ),
        st.builds(
            A.SetCurve,
            section,
            layer.map(lambda i: f"layer.{i}.level_db"),
            st.just([[0, -30, "ease"], [5000, -6, "line"]]),
        ),
        st.builds(
            A.Sweep,
            layer.map(lambda i: f"layer.{i}.lowpass_hz"),
            st.integers(1, 5),
            st.integers(6, 16),
            st.just(300),
            st.just(9000),
        ),
        st.builds(A.Treat, section, layer, st.just("level_db"), st.integers(-30, 0)),
        st.builds(
            A.AddThrow, section, layer, st.integers(0, 3000), st.integers(3001, 6000), st.sampled_from(["echo", "near"])
        ),
        st.builds(W.SetTempo, st.integers(60, 180)),
        st.builds(W.GlideTempo, section, st.integers(60, 180), st.sampled_from([0, 3840]), st.sampled_from([0, 7680])),
        st.builds(H.SetChords, st.sampled_from(["I | V", "vi IV | <I@4 V/ii", "Am"]), st.none() | section),
        st.builds(
            H.VaryChords,
            st.sampled_from([0, 2, 3]),
            st.sampled_from(["IV | I", "", "I | V | vi | IV"]),
            st.none() | section,
        ),
        st.builds(H.StretchChords, st.integers(1, 8), st.none() | section),
        st.builds(
            G.AddGroove,
            st.just("Beat"),
            st.sampled_from([3840, 7680]),
            st.just([[0, "kick", 100], [960, "snare", 90], [1440, "closed hat", 60]]),
            section_id=section,
            phrase=st.none() | st.integers(0, 1),
        ),
        st.builds(G.AdoptGroove, section, st.integers(0, 1)),
        st.builds(
            G.VaryGroove,
            groove,
            st.sampled_from(["busier", "sparser", "half-time"]),
            section,
            st.none() | st.integers(0, 1),
        ),
        st.builds(
            G.SetHit, groove, st.sampled_from(["kick", "ride"]), st.sampled_from([0, 480]), st.sampled_from([0, 90])
        ),
        st.builds(
            F.PlaceFill,
            section,
            st.just("Fill"),
            st.just(3840),
            st.just([[2880, "snare", 100]]),
            st.none() | st.just(0),
            st.sampled_from(list(F.OVER)),
            st.sampled_from(F.FILL_LEVELS),
        ),  # fmt: skip
        st.builds(F.RemoveFill, section, st.integers(0, 1)),
        st.builds(
            M.DrumDensity, section, st.integers(0, 1), st.sampled_from(["kick", "closed hat"]), st.integers(-2, 2)
        ),
        st.builds(
            M.RollHits,
            section,
            st.integers(0, 1),
            st.just("closed hat"),
            st.sampled_from([0, 2880]),
            st.just(1.0),
            st.sampled_from(list(M.ROLLS)),
        ),
        st.builds(M.JoinGrooves, groove, groove, st.none() | section),
        st.builds(M.GrooveFamily, section, st.integers(0, 1), st.booleans()),
        st.just(M.TuneToms()),
        st.builds(
            SetSwing, section, st.sampled_from([50, 60, 66]), st.sampled_from(["1/8", "1/16"]), st.just(0) | layer
        ),
        st.builds(G.RemoveGroove, groove),
        st.builds(N.MakeLine, section, layer, st.integers(0, 1), st.sampled_from(sorted(MAKERS))),
        st.builds(N.TransformLine, section, layer, st.integers(0, 1), st.sampled_from(sorted(TRANSFORMATIONS))),
        st.builds(N.DoubleLine, layer, st.sampled_from(["glass-bell", "sub-sine"]), st.integers(-1, 1)),
        st.builds(
            Y.ChangeNotes,
            section,
            layer,
            st.integers(0, 1),
            st.just([[None, None, 480, 62, 300, 90], [None, None, 960, 65, 100, 70]]),
            st.sampled_from(["chord", "scale", "fixed"]),
            st.booleans(),
        ),
        st.builds(Y.AnchorLine, section, layer, st.integers(0, 1), st.sampled_from(["chord", "scale", "fixed"])),
        st.builds(Y.TransposeLine, section, layer, st.integers(0, 1), st.integers(-3, 3)),
        st.builds(
            Y.QuantiseLine,
            section,
            layer,
            st.integers(0, 1),
            st.sampled_from([0.4, 1.0]),
            st.sampled_from(["1/8", "1/16 triplet"]),
        ),
        st.builds(Y.RecordNotes, section, layer, st.integers(0, 1), st.just([[0.1, 0.3, 60, 90], [1.2, 0.1, 64, 80]])),
        st.builds(Z.SecondVoice, section, layer, st.integers(0, 1), st.sampled_from(["third-above", "sixth-below"])),
        st.builds(Z.SplitLine, section, layer, st.integers(0, 1), st.sampled_from(["in-turn", "bars-in-turn"])),
        st.builds(Q.StretchSection, section, st.sampled_from([-2, 1, 2]), st.just("on purpose")),
        st.builds(
            LayOut,
            st.sampled_from(["intro 4, verse 8, chorus 8 x2", "chorus 8, break 6, drop 12"]),
            section,
            st.sampled_from(["by target", "full", "empty"]),
        ),
        st.builds(Arrange, st.sampled_from(["voice", "drums", "chords"]), section),
        st.builds(I.ExchangeSound, layer),
        st.builds(I.KeepStandIn, layer, st.booleans()),
        st.builds(Q.MendSlips, section),
        st.builds(T.SetTiles, st.tuples(section, layer, st.integers(0, 1)).map(lambda c: [list(c)]), st.booleans()),
        st.builds(T.CopyTiles, section, section),
        st.builds(B.ParkBody, section, st.sampled_from(["a try", "another"])),
        st.builds(Exchange, section, st.integers(0, 5)),
        st.builds(R.SetAside, layer, st.just("too sweet")),
        st.builds(P.AddPerson, st.sampled_from(["Mira", "Joris", "Ana"]), st.just("voice")),
        st.builds(P.SetShares, st.just("")),
        st.builds(
            K.SetStage, st.sampled_from(["arranged", "mixed", "left"]), st.dates(FIRST, LAST).map(str), st.just("why")
        ),
        st.builds(K.SetRelease, st.sampled_from(["2031-08-01", ""])),
        st.builds(K.SetDue, st.sampled_from(["Cover", "Mix done"]), st.sampled_from(["2031-07-07", ""])),
        st.builds(K.SetPrompt, st.just([["no kick", ""], ["few layers", "4"]])),
        st.builds(MoveOf, section, st.integers(0, 400)),
        st.builds(X.TuneLow, section, layer),
        st.builds(H.PushChords, st.sampled_from([0, 240, 480])),
        st.builds(H.SetKey, st.sampled_from(["D minor", "Gb major", "B lydian"]), st.booleans()),
        st.builds(H.SetVoicing, layer, st.just("spread"), st.sampled_from(["open", "wide"])),
        st.builds(
            H.ChangeKeyAt,
            section,
            st.integers(-2, 3),
            st.booleans(),
            st.sampled_from(["step up", "dominant", "common chord"]),
        ),
        st.builds(W.SetMetre, st.sampled_from(["3/4", "4/4", "7/8"]), st.none() | section),
    ]
    return st.one_of(choices)

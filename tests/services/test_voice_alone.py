"""A voice that stands alone: its notes are read, its home found, and three ways of going under it offered, every clash named."""

import numpy as np
import pytest

from escalera.core.study import corrections
from escalera.core.study.under_voice import VoiceNote, home_of, offers_under
from escalera.core.theory.keys import parse_key
from escalera.errors import InputError
from escalera.listen.sung_notes import sung_notes
from escalera.services.voice_alone import under_voice
from tests.recordings import RATE, loop

BEAT_S = 0.6
# pitch (None for a breath) and beats: nine bars in A minor, with the raised seventh before the end
TUNE = (
    (69, 1), (71, 1), (72, 2), (76, 2), (74, 1), (72, 1), (71, 3), (None, 1), (69, 1), (67, 1), (65, 2), (64, 3), (None, 1), (69, 1), (72, 1), (76, 2),
    (77, 1), (76, 1), (74, 2), (71, 2), (68, 1), (71, 1), (69, 4),
)  # fmt: skip


def sung(tune=TUNE, cents=0.0):
    """A voice: pulses through a resonance, with glides into notes, vibrato and breath."""
    rng, parts = np.random.default_rng(2), []
    for pitch, beats in tune:
        t = np.arange(int(beats * BEAT_S * RATE)) / RATE
        if pitch is None:
            parts.append(np.zeros(len(t)))
            continue
        bend = 0.15 * np.sin(2 * np.pi * 5.5 * t) * np.minimum(1, t / 0.3) - 0.8 * np.exp(-40 * t)
        hz = 440.0 * 2 ** ((pitch - 69 + cents / 100 + bend) / 12)
        phase = 2 * np.pi * np.cumsum(hz) / RATE
        voice = sum(np.sin(k * phase) / k * np.exp(-(((k * hz.mean() - 700) / 900) ** 2)) for k in range(1, 12))
        parts.append(
            (voice + 0.02 * rng.standard_normal(len(t))) * np.minimum(1, t / 0.03) * np.minimum(1, (t[-1] - t) / 0.05)
        )
    return 0.2 * np.concatenate(parts)[None].astype(np.float32)


def beats_of(tune):
    at, found = 0.0, []
    for pitch, beats in tune:
        if pitch is not None:
            found.append(VoiceNote(at, at + beats, pitch))
        at += beats
    return found


@pytest.mark.parametrize("cents", [0.0, 30.0])
def test_sung_notes_are_read_within_a_few_cents_and_hundredths(cents):
    found, true = sung_notes(sung(cents=cents)), beats_of(TUNE)
    assert [n.pitch for n in found] == [n.pitch for n in true]
    assert max(abs(n.start_s - t.start * BEAT_S) for n, t in zip(found, true)) < 0.06
    assert max(abs(n.cents - cents) for n in found) < 8.0
    assert sung_notes((0.1 * np.random.default_rng(1).standard_normal((1, 3 * RATE))).astype(np.float32)) == ()


def test_three_different_ways_go_under_it():
    notes = beats_of(TUNE)
    key, sure = home_of(notes)
    assert str(key) == "A minor" and sure > 0.5 and home_of(notes[:3]) is None
    plain, elsewhere, coloured = offers_under(notes, 9, 4, key)
    assert plain.chords[0].root_class == 9 and elsewhere.chords[0].root_class != 9
    assert plain.agrees > 0.8 and min(elsewhere.agrees, coloured.agrees) > 0.6
    for one, other in ((plain, elsewhere), (plain, coloured), (elsewhere, coloured)):
        assert sum(a.root_class != b.root_class for a, b in zip(one.chords, other.chords)) >= 4
    assert any(c.quality in ("maj7", "m7") for c in coloured.chords)


def test_every_clash_is_named_and_none_where_there_is_none():
    held = [VoiceNote(0.0, 4.0, 77), VoiceNote(4.0, 8.0, 76)]  # F and E
    offers = offers_under(held, 2, 4, parse_key("C major"))
    for offer in offers:
        rubbing = [(n, c) for n, c in zip(held, offer.chords) if n.pitch % 12 not in c.classes]
        assert len(offer.clashes) <= len(rubbing)
    forced = offers_under(
        [VoiceNote(0.0, 2.0, 60), VoiceNote(2.0, 4.0, 61), VoiceNote(4.0, 8.0, 60)], 2, 4, parse_key("C major")
    )[0]
    assert any("bar 1, beat 3" in said for said in forced.clashes)


def test_a_voice_in_a_study_is_read_section_by_section(studio):
    sample = studio.samples.add_audio("Voice", np.concatenate((sung(), sung()), axis=1), "me", "own", "")
    study_id = studio.studies.add(studio.samples.card(sample).content, "Voice")
    studio.studies.read(study_id)
    studio.studies.correct(study_id, lambda s: corrections.one_at(corrections.tempo_set(s.given, 60.0 / BEAT_S), 0.0))
    studio.studies.read(study_id)
    study = studio.studies.get(study_id)
    found = under_voice(study, 0)
    assert str(found.key) == "A minor" and found.notes >= 8 and len(found.offers) == 3
    assert all(len(o.chords) == study.needed().sections[0].bars for o in found.offers)
    drums = studio.samples.add_audio(
        "Drums", np.atleast_2d(np.tile(loop("drums", 100.0, 8)[0], 2)).astype(np.float32), "me", "own", ""
    )
    drums_id = studio.studies.add(studio.samples.card(drums).content, "Drums")
    studio.studies.read(drums_id)
    with pytest.raises(InputError, match="No single voice"):
        under_voice(studio.studies.get(drums_id), 0)

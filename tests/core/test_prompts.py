"""Prompts: every rule with a song that keeps it and one that does not; a prompt of every week; songs that are made of one."""

from dataclasses import replace
from datetime import date, timedelta

import pytest

from escalera.core.document.recordings import Clip
from escalera.core.document.song import EnergyScale
from escalera.core.energy.model import arranged
from escalera.core.prompts.prompt_rules import PROMPT_RULES, judged_rules, read_rule
from escalera.core.prompts.weekly import begins_with, own_prompt, prompt_of_week, week_of
from escalera.core.theory.keys import parse_key
from escalera.core.time.metre import parse_metre
from escalera.errors import EditError
from escalera.services.new_song import new_song
from escalera.services.planning import song_of_prompt
from tests.planned import SONG, made
from tests.songs import BASS, PADS, ids

I = ids(SONG)  # noqa: E741
V, C, K, B, P = I["Verse"], I["Chorus"], I["Round kick"], I["Plucked bass"], I["Soft pad"]
SILENT = replace(SONG, sections=tuple(replace(s, placements=()) for s in SONG.sections))
NO_KICK = made(SONG, ("remove_layer", dict(layer_id=K)))
PAD_ONLY = made(NO_KICK, ("remove_layer", dict(layer_id=B)))
DRONE = made(PAD_ONLY, ("add_layer", dict(sound="tone-organ", rows=[[0, 3840, 0, 60, 0, 90]], length_ticks=3840)))
DRONE = made(DRONE, *(("place", dict(section_id=s, layer_id=DRONE.layers[-1].id, pattern_id=DRONE.layers[-1].pattern_id)) for s in (V, C)))  # fmt: skip
ALL_FOUND = replace(SONG, layers=tuple(replace(x, clips=(Clip(sample="a" * 32),)) for x in SONG.layers))
THREE = made(SONG, ("duplicate_section", dict(section_id=V)))


def formed(text, source=SONG):
    """The small song's loop in a form."""
    return made(source, ("lay_out", dict(text=text, source_id=source.sections[-1].id, fill="full")))


def emptied_before(song):
    """The song with its last section's bar before left out."""
    return made(song, ("toggle_tile", dict(section_id=V, layer_id=K, phrase=1, bar=3)), ("toggle_tile", dict(section_id=V, layer_id=B, phrase=1, bar=3)))  # fmt: skip


VOICES = replace(PAD_ONLY, layers=tuple(replace(x, family="voices") for x in PAD_ONLY.layers))
HILLS = formed("Chorus 8, Break 8, Chorus 8")
CURVE = [s.value for s in arranged(HILLS).sections]
OWN_LINES = made(SONG, ("lift", dict(section_id=V, layer_id=K, phrase=0)), ("lift", dict(section_id=V, layer_id=K, phrase=1)), ("lift", dict(section_id=V, layer_id=B, phrase=0)), ("lift", dict(section_id=V, layer_id=B, phrase=1)), ("place_new", dict(section_id=V, layer_id=B, name="other", length_ticks=3840, rows=BASS[:3], phrase=0)))  # fmt: skip
# rule: value, a song that keeps it, one that does not
ROWS = {
    "held note": ("", DRONE, SONG),
    "few layers": ("3", SONG, made(SONG, ("add_layer", dict(sound="glass-bell", rows=PADS, length_ticks=3840, section_id=C)))),
    "no kick": ("", NO_KICK, SONG),
    "no drums": ("", NO_KICK, SONG),
    "only found sounds": ("", ALL_FOUND, SONG),
    "form backwards": ("", formed("Outro 8, Chorus 8, Verse 8, Intro 8"), formed("Outro 8, Verse 8, Chorus 8, Intro 8")),
    "borrowed curve": (" ".join(f"{v:.1f}" for v in CURVE), HILLS, replace(HILLS, scale=EnergyScale(0.1))),
    "one chord": ("", made(SONG, ("set_chords", dict(chords="Dm"))), SONG),
    "tempo": ("110-130", SONG, made(SONG, ("set_tempo", dict(tempo_bpm=131)))),
    "metre": ("7/8", replace(SONG, metre=parse_metre("7/8")), SONG),
    "few notes": ("3", made(PAD_ONLY, ("set_chords", dict(chords="C"))), SONG),
    "short": ("0:32", SONG, THREE),
    "nothing twice": ("", OWN_LINES, SONG),
    "mode": ("dorian", replace(SONG, key=parse_key("D dorian")), SONG),
    "one sound": ("", PAD_ONLY, SONG),
    "voices only": ("", VOICES, SONG),
    "no low end": ("", PAD_ONLY, SONG),
    "silence before the peak": ("", emptied_before(SONG), SONG),
    "unequal lengths": ("", made(THREE, ("resize_section", dict(section_id=THREE.sections[1].id, bars=6))), THREE),
}  # fmt: skip


@pytest.mark.parametrize("rule", PROMPT_RULES)
def test_a_rule_is_kept_by_one_song_and_not_by_another(rule):
    value, keeps, breaks = ROWS[rule]
    kept, broken = PROMPT_RULES[rule].judge(keeps, value), PROMPT_RULES[rule].judge(breaks, value)
    assert (kept.met, broken.met) == (True, False) and kept.said != broken.said
    assert read_rule(rule, value) == (rule, value)
    silent = PROMPT_RULES[rule].judge(SILENT, value)
    assert silent.met is None or rule in ("one chord", "tempo", "metre", "short", "mode", "unequal lengths")
    with pytest.raises(EditError):
        read_rule(rule, "quite a lot of it")


def test_every_week_of_years_has_a_prompt_that_a_song_can_begin_with():
    seen = set()
    for week in range(160):
        day = date(2030, 1, 7) + timedelta(weeks=week)
        prompt = prompt_of_week(day)
        assert prompt == prompt_of_week(day + timedelta(days=6)) and prompt.name.startswith(
            f"Week {week_of(day)[1]} of"
        )
        assert 2 <= len(prompt.rules) <= 3 and own_prompt("x", list(prompt.rules)).rules == prompt.rules
        seen |= {key for key, _ in prompt.rules}
        if week % 10 == 0:
            song = new_song(**begins_with(prompt))
            assert song.sections
    assert seen == set(PROMPT_RULES) and prompt_of_week(day) != prompt_of_week(day, 1)


def test_a_song_of_a_prompt_has_its_rules_and_its_words():
    prompt = own_prompt("Kitchen", [("no kick", ""), ("few layers", "3")], "drawers and a window")
    song = song_of_prompt(prompt)
    assert dict(song.brief)["prompt"] == "No kick plays. At most 3 layers play. drawers and a window"
    assert [(rule.key, kept.met) for rule, _, kept in judged_rules(song)] == [("no kick", True), ("few layers", True)]
    for rows, words, says in (
        ([], "", "The prompt is empty"),
        ([("no kick", ""), ("no kick", "")], "", "stands there twice"),
        ([("no kick", ""), ("no drums", "")], "", "cannot both be kept"),
        ([("louder", "")], "", "is no rule"),
        ([("tempo", "fast")], "", "no range of tempi"),
    ):
        with pytest.raises(EditError, match=says):
            own_prompt("x", rows, words)

"""A short run of the fuzzing, with a fixed seed; `make fuzz` goes on for longer."""

import pytest

from tests.edit_chains import Chains
from tests.fuzzing import Fuzz

STEPS = 400


@pytest.mark.parametrize("seed", [1])
def test_odd_requests_commands_and_files_are_answered(tmp_path, seed):
    fuzz = Fuzz(tmp_path, seed)
    for _ in range(STEPS):
        fuzz.step()
    fuzz.studio.close()
    assert not fuzz.faults
    assert (
        sum(n for what, n in fuzz.counts.items() if what.startswith(("POST", "walk")) and what.endswith(" 200")) > 50
    ), "some are taken"
    assert len(fuzz.offered) > 150, "pages are walked"
    assert any(what.endswith(" 422") for what in fuzz.counts) and fuzz.counts["file refused"]


@pytest.mark.parametrize("seed", [2, 7])
def test_edits_of_all_kinds_one_after_another_lead_to_songs_that_files_hold(seed):
    chains = Chains(seed)
    for _ in range(1_500):
        chains.step()
    assert not chains.faults
    assert sum(what.endswith(" taken") for what in chains.counts) > 150, "most kinds are taken"

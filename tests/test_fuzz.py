"""A short run of the fuzzing, with a fixed seed; `make fuzz` goes on for longer."""

import pytest

from tests.fuzzing import Fuzz

STEPS = 260


@pytest.mark.parametrize("seed", [1])
def test_odd_requests_commands_and_files_are_answered(tmp_path, seed):
    fuzz = Fuzz(tmp_path, seed)
    for _ in range(STEPS):
        fuzz.step()
    fuzz.studio.close()
    assert not fuzz.faults
    assert sum(n for what, n in fuzz.counts.items() if what.startswith("POST") and what.endswith(" 200")) > 8, (
        "some are taken"
    )
    assert any(what.endswith(" 422") for what in fuzz.counts) and fuzz.counts["file refused"]

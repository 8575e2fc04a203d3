"""Every check, importable from one place; importing this package fills the registry CHECKS."""

from escalera.core.checks import brief_checks as brief
from escalera.core.checks import energy_checks as energy
from escalera.core.checks import fault_checks as faults
from escalera.core.checks import form_checks as form
from escalera.core.checks import join_checks as joins
from escalera.core.checks import layer_checks as layers
from escalera.core.checks import voice_checks as voices
from escalera.core.checks.check import (
    CHECKS,
    Check,
    Finding,
    Judged,
    facts_text,
    find_finding,
    grouped,
    judged,
    run_checks,
)
from escalera.core.checks.song_status import undecided

__all__ = [
    "undecided",
    "CHECKS",
    "Check",
    "Finding",
    "Judged",
    "brief",
    "energy",
    "facts_text",
    "faults",
    "find_finding",
    "form",
    "grouped",
    "joins",
    "judged",
    "layers",
    "run_checks",
    "voices",
]

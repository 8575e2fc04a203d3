"""Every check, importable from one place; importing this package fills the registry CHECKS."""

from escalera.core.checks import brief, energy, form, layers
from escalera.core.checks.base import CHECKS, Check, Finding, Judged, facts_text, find_finding, judged, run_checks
from escalera.core.checks.standing import NextStep, next_steps, undecided

__all__ = [
    "NextStep",
    "next_steps",
    "undecided",
    "CHECKS",
    "Check",
    "Finding",
    "Judged",
    "brief",
    "energy",
    "facts_text",
    "find_finding",
    "form",
    "judged",
    "layers",
    "run_checks",
]

"""Every check, importable from one place; importing this package fills the registry CHECKS."""

from escalera.core.checks import brief, energy, form, layers
from escalera.core.checks.base import CHECKS, Check, Finding, Judged, facts_text, find_finding, judged, run_checks

__all__ = [
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

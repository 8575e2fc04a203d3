"""Every check, importable from one place; importing this package fills the registry CHECKS."""

from escalera.core.checks import energy, form, layers
from escalera.core.checks.base import CHECKS, Check, Finding, run_checks

__all__ = ["CHECKS", "Check", "Finding", "energy", "form", "layers", "run_checks"]

"""Writes docs/checks.md from the registry. Usage: .venv/bin/python tools/list_checks.py"""

from pathlib import Path

from escalera.core.balance.balance_checks import HEARD_CHECKS
from escalera.core.checks import CHECKS
from escalera.core.document.schools import SWITCHES
from escalera.core.moves import KINDS

HEAD = """# Checks

Every check reports findings with figures, gives its reason and names moves that would mend it. Some belong to a stance and are silent where the
song's school, or its own switch, takes another. How strict they are follows the school. Written by `tools/list_checks.py`.

| check | why | only where | mended by |
|---|---|---|---|
"""


def row(check) -> str:  # type: ignore[no-untyped-def]
    where = f"{SWITCHES[check.when[0]].label}: {SWITCHES[check.when[0]].options[check.when[1]]}" if check.when else ""
    return f"| {check.title} | {check.reason} | {where} | {', '.join(KINDS[m].label.lower() for m in check.mends)} |\n"


HEARD = """
## Heard in the mix

Rules about what is rendered, on the page of balance; each finding there comes with changes that mend it.

| rule | why |
|---|---|
"""
rows = "".join(row(c) for c in CHECKS.values())
heard = "".join(f"| {c.title} | {c.reason} |\n" for c in HEARD_CHECKS.values())
Path("docs/checks.md").write_text(HEAD + rows + HEARD + heard)

"""Writes docs/moves.md from the registry. Usage: .venv/bin/python tools/list_moves.py"""

from pathlib import Path

from escalera.core.moves import KINDS

HEAD = """# Moves

Every move can be looked at before it is made (`M` on the stair): the stair before and after, the exact change of the arranged energy and its
terms, and what it changes. One step undoes it. Written by `tools/list_moves.py`.

| move | changes | what it does |
|---|---|---|
"""

Path("docs/moves.md").write_text(HEAD + "".join(f"| {k.label} | {k.touches} | {k.said} |\n" for k in KINDS.values()))

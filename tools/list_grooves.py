"""Renews docs/grooves.md from the built-in grooves. Usage: .venv/bin/python tools/list_grooves.py"""

from pathlib import Path

from escalera.services.groove_library import groove_table

Path("docs/grooves.md").write_text(groove_table(), "utf-8")

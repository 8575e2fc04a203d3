"""Tables as CSV. Every cell passes one gate: text that a spreadsheet would take for a formula is made harmless."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from escalera.cleaning import neutral_cell


def csv_text(rows: Iterable[Sequence[object]]) -> str:
    """Rows as CSV with line feeds."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    for row in rows:
        table.writerow([cell if isinstance(cell, int | float) else neutral_cell(cell) for cell in row])
    return out.getvalue()

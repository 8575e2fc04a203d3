"""Write docs/project.schema.json and the table of fields in docs/formats.md, from the fields of the document."""

import json
import re
from pathlib import Path

from escalera.core.document.codec import field_table
from escalera.formats.project import project_schema

DOCS = Path(__file__).parents[1] / "docs"

if __name__ == "__main__":
    (DOCS / "project.schema.json").write_text(json.dumps(project_schema(), indent=1, ensure_ascii=False) + "\n")
    formats = DOCS / "formats.md"
    table = f"<!-- fields -->\n{field_table()}\n<!-- end of fields -->"
    formats.write_text(
        re.sub(r"<!-- fields -->.*<!-- end of fields -->", lambda _: table, formats.read_text(), flags=re.S)
    )

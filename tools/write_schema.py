"""Write docs/project.schema.json, the schema of project files, from the fields of the document."""

import json
from pathlib import Path

from escalera.formats.project import project_schema

if __name__ == "__main__":
    target = Path(__file__).parents[1] / "docs" / "project.schema.json"
    target.write_text(json.dumps(project_schema(), indent=1, ensure_ascii=False) + "\n")

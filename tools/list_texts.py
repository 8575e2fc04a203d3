"""Write escalera/web/texts/messages.pot: every text of the templates, once, with the places where it stands."""

from io import BytesIO
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.extract import extract_from_dir
from babel.messages.pofile import write_po

WEB = Path(__file__).parents[1] / "escalera" / "web"
JINJA = {"trim_blocks": "true", "lstrip_blocks": "true"}


def catalog() -> bytes:
    """The catalogue as a .pot file, sorted by place."""
    found = Catalog(project="Escalera", header_comment="# Texts of Escalera's pages.")
    rows = extract_from_dir(WEB / "templates", [("**.html", "jinja2.ext.babel_extract")], {"**.html": JINJA})
    for name, line, message, comments, context in sorted(rows, key=lambda row: (row[0], row[1])):
        found.add(message, None, [(name, line)], auto_comments=comments, context=context)
    out = BytesIO()
    write_po(out, found, width=120, omit_header=True, include_lineno=False)
    return out.getvalue()


if __name__ == "__main__":
    (WEB / "texts").mkdir(exist_ok=True)
    (WEB / "texts" / "messages.pot").write_bytes(catalog())

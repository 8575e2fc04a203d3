"""Write the catalogues under escalera/web/texts: the texts of templates, and the labels and sentences of the core.

Each stands once, with the places where it is used, so that they can be read through in one sitting, and translated.
"""

import ast
from io import BytesIO
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.extract import extract_from_dir
from babel.messages.pofile import write_po

WEB = Path(__file__).parents[1] / "escalera" / "web"
ROOT = WEB.parent
# calls and decorators whose texts people read
REGISTRIES = (
    *(
        "number",
        "text",
        "choice",
        "part",
        "check",
        "kind",
        "variation",
        "maker",
        "transformation",
        "edit",
        "hz",
        "beats",
        "knob",
    ),
    *("drum", "pitched", "place", "carrier", "Parameter", "Finding", "Problem", "Effect", "Check", "Switch", "School"),
    *("FieldSpec", "Way", "Next", "Question"),
)
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


def _written(node: ast.expr) -> str:
    """A text with {…} where something is filled in; empty for what is no text."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(
            v.value if isinstance(v, ast.Constant) else "{" + ast.unparse(v.value) + "}" for v in node.values
        )
    return ""


def _is_read(text: str) -> bool:
    return (" " in text or text[:1].isupper()) and any(c.isalpha() for c in text)


def sentences() -> bytes:
    """Labels of registries and sentences of errors and findings, sorted by place."""
    found = Catalog(project="Escalera", header_comment="# Labels and sentences of Escalera's core.")
    for path in sorted(ROOT.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            name = getattr(getattr(node, "func", None), "id", "") if isinstance(node, ast.Call) else ""
            if name.endswith("Error") or name in REGISTRIES:
                values = [*node.args, *(k.value for k in node.keywords)]
                for text in filter(_is_read, map(_written, values)):
                    found.add(text.replace("\n", " "), None, [(str(path.relative_to(ROOT)), node.lineno)])
    out = BytesIO()
    write_po(out, found, width=120, omit_header=True, include_lineno=False)
    return out.getvalue()


if __name__ == "__main__":
    (WEB / "texts").mkdir(exist_ok=True)
    (WEB / "texts" / "messages.pot").write_bytes(catalog())
    (WEB / "texts" / "sentences.pot").write_bytes(sentences())

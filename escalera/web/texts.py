"""The texts of pages: English as it stands in the templates, or a translation of it.

`texts/messages.pot` lists every text of the templates once, with its places; `make texts` renews it. A translation is a copy
of it under `texts/<language>/LC_MESSAGES/messages.po`, compiled beside it, and chosen by ESCALERA_LANGUAGE.
"""

from __future__ import annotations

import gettext
from pathlib import Path

from flask import Flask

FOLDER = Path(__file__).with_name("texts")
DOMAIN = "messages"


def install_texts(app: Flask, language: str, folder: Path = FOLDER) -> None:
    """Let templates speak a language; what is not translated stays English."""
    app.jinja_env.add_extension("jinja2.ext.i18n")
    found = gettext.translation(DOMAIN, folder, [language], fallback=True)
    app.jinja_env.install_gettext_translations(found, newstyle=False)  # type: ignore[attr-defined]

"""The texts of pages: English as it stands in the templates, or a translation of it.

`texts/messages.pot` lists every text of the templates once, with its places; `make texts` renews it. A translation is a copy
of it under `texts/<language>/LC_MESSAGES/messages.po`, compiled beside it, and chosen by ESCALERA_LANGUAGE.
"""

from __future__ import annotations

import gettext
import re
from ast import literal_eval
from pathlib import Path

from flask import Flask
from jinja2 import Environment
from jinja2.ext import Extension
from markupsafe import escape

FOLDER = Path(__file__).with_name("texts")
DOMAIN = "messages"
STANDING = re.compile(r"""\{\{ _\(("(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')\) \}\}""")
INDENT = re.compile(r"\n[ \t]+")


class StandingTexts(Extension):
    """Texts are put into a template when it is compiled, not on every answer; so is the layout of its source taken out."""

    def __init__(self, environment: Environment):
        super().__init__(environment)
        environment.extend(say_text=gettext.gettext)

    def preprocess(self, source: str, name: str | None, filename: str | None = None) -> str:
        say = self.environment.say_text  # type: ignore[attr-defined]
        return INDENT.sub("\n", STANDING.sub(lambda found: str(escape(say(literal_eval(found[1])))), source))


def install_texts(app: Flask, language: str, folder: Path = FOLDER) -> None:
    """Let templates speak a language; what is not translated stays English."""
    found = gettext.translation(DOMAIN, folder, [language], fallback=True)
    app.jinja_env.add_extension("jinja2.ext.i18n")
    app.jinja_env.add_extension(StandingTexts)
    app.jinja_env.say_text = found.gettext  # type: ignore[attr-defined]
    app.jinja_env.install_gettext_translations(found, newstyle=False)  # type: ignore[attr-defined]

"""The texts of pages: English as it stands in the templates, or a translation of it.

`texts/messages.pot` lists every text of the templates once, with its places; `make texts` renews it. A translation is a copy
of it under `texts/<language>/LC_MESSAGES/messages.po`, compiled beside it, and chosen by ESCALERA_LANGUAGE. Labels of
registries and sentences of errors and findings stand in the core; `texts/sentences.pot` lists them with `{…}` for what is filled in, and a
translation (`sentences.po`) is looked up where a page shows them.
"""

from __future__ import annotations

import gettext
import hashlib
import re
from ast import literal_eval
from collections.abc import Mapping
from pathlib import Path

from flask import Flask
from jinja2 import Environment
from jinja2.ext import Extension
from markupsafe import escape

TEXTS_DIGEST = hashlib.blake2b(
    Path(__file__).read_bytes(), digest_size=5
).hexdigest()  # compiled templates depend on this file
FOLDER = Path(__file__).with_name("texts")
DOMAIN = "messages"
STANDING = re.compile(r"""\{\{ _\(("(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')\) \}\}""")
# what comes from registries and errors, never what people wrote
SHOWN = re.compile(r"\{\{ ((?:[\w.]+\.(?:label|said|promise|help))|check\.(?:title|reason)|message) \}\}")
BLANK = re.compile(r"\{[^{}]*\}")
INDENT = re.compile(r"\n[ \t]+")


class StandingTexts(Extension):
    """Texts are put into a template when it is compiled, not on every answer; so is the layout of its source taken out."""

    def __init__(self, environment: Environment):
        super().__init__(environment)
        environment.extend(say_text=gettext.gettext, sentences=None)

    def preprocess(self, source: str, name: str | None, filename: str | None = None) -> str:
        say = self.environment.say_text  # type: ignore[attr-defined]
        if self.environment.sentences:  # type: ignore[attr-defined]
            source = SHOWN.sub(r"{{ \1|translated }}", source)
        return INDENT.sub("\n", STANDING.sub(lambda found: str(escape(say(literal_eval(found[1])))), source))


def _filled(text: str, values: tuple[str, ...]) -> str:
    left = iter(values)
    return BLANK.sub(lambda _: next(left, ""), text)


class Sentences:
    """Sentences with their blanks: one that was filled in is found again by what stands around them."""

    def __init__(self, catalog: Mapping[str, str]):
        self.catalog = catalog
        with_blanks = sorted((m for m in catalog if BLANK.search(m)), key=len, reverse=True)
        self.patterns = [(self._pattern(m), catalog[m]) for m in with_blanks]

    @staticmethod
    def _pattern(message: str) -> re.Pattern[str]:
        return re.compile("(.*?)".join(re.escape(part) for part in BLANK.split(message)), re.DOTALL)

    def say(self, text: str) -> str:
        """The sentence in the language of the catalogue, or as it is."""
        if text in self.catalog:
            return self.catalog[text]
        for pattern, translation in self.patterns:
            if found := pattern.fullmatch(text):
                return _filled(translation, found.groups())
        return text


def install_texts(app: Flask, language: str, folder: Path = FOLDER) -> bool:
    """Let templates speak a language; what is not translated stays English. Says whether there is a translation, which is
    woven into templates as they are compiled."""
    found = gettext.translation(DOMAIN, folder, [language], fallback=True)
    filled = gettext.translation("sentences", folder, [language], fallback=True)
    catalog = {k: v for k, v in getattr(filled, "_catalog", {}).items() if isinstance(k, str) and k and v}
    sentences = Sentences(catalog)

    def _translate(text: object) -> object:
        return sentences.say(text) if isinstance(text, str) else text

    app.jinja_env.add_extension("jinja2.ext.i18n")
    app.jinja_env.add_extension(StandingTexts)
    app.jinja_env.say_text = found.gettext  # type: ignore[attr-defined]
    app.jinja_env.sentences = sentences if catalog else None  # type: ignore[attr-defined]
    app.jinja_env.filters["translated"] = _translate
    app.jinja_env.install_gettext_translations(found, newstyle=False)  # type: ignore[attr-defined]
    translated = isinstance(found, gettext.GNUTranslations) or bool(catalog)
    if translated:
        app.jinja_env.bytecode_cache = None  # what is kept there is in the language templates are written in
    return translated

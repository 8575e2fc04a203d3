"""The web interface: a factory, a module per screen, thin views."""

from __future__ import annotations

import gc
import logging
import secrets
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from flask import Flask, Response, current_app, g, render_template, request
from flask_compress import Compress
from flask_wtf.csrf import CSRFError, CSRFProtect
from jinja2 import FileSystemBytecodeCache
from jinja2.runtime import Macro
from jinja2.utils import htmlsafe_json_dumps
from markupsafe import Markup
from werkzeug.exceptions import HTTPException
from werkzeug.routing import IntegerConverter, Rule

from escalera.core.caching import Results
from escalera.core.commands import write_command
from escalera.core.time.ticks import clock
from escalera.errors import DamagedState, EscaleraError, StoreError
from escalera.services.logs import LOG, log_error
from escalera.services.memory import collect_less_often
from escalera.services.studio import Studio
from escalera.services.today import Running
from escalera.settings import COMPILED, Settings
from escalera.web import (
    arranging,
    assets,
    balance,
    bench,
    board,
    bounces,
    counting,
    dev,
    drills,
    feedback,
    files,
    gate,
    groove,
    guard,
    harmony,
    ideas,
    joins,
    layout_view,
    logbook,
    options,
    plan,
    remote_work,
    samples,
    sets,
    shelf,
    song_samples,
    sound,
    stair,
    studies,
    tasks,
    today,
    versions,
    voices,
)
from escalera.web import checks as judging
from escalera.web.assets import asset_url
from escalera.web.terms import term
from escalera.web.texts import TEXTS_DIGEST, install_texts

PAGES = (
    assets, shelf, stair, arranging, judging, options, harmony, ideas, groove, bench, joins,
    samples, song_samples, bounces, studies, voices, balance, layout_view, sound, feedback,
    today, board, plan, sets, tasks, drills, logbook, files, counting, versions, dev, gate, remote_work,
)  # fmt: skip
COMPRESSED = [
    "text/html",
    "text/css",
    "text/plain",
    "application/json",
    "text/javascript",
    "application/javascript",
    "image/svg+xml",
]


def create_app(studio: Studio | None = None, testing: bool = False) -> Flask:
    """The application on a studio (by default the one of the data folder)."""
    app, settings = Flask(__name__), Settings()
    studio = studio or Studio()
    app.extensions["studio"] = studio
    app.config.update(
        SECRET_KEY=_secret(studio.folder), TESTING=testing, WTF_CSRF_TIME_LIMIT=None,
        MAX_CONTENT_LENGTH=settings.upload_mb * 1_000_000, MAX_FORM_MEMORY_SIZE=8_000_000, SEND_FILE_MAX_AGE_DEFAULT=31_536_000,
        SESSION_COOKIE_SAMESITE="Strict", SESSION_COOKIE_HTTPONLY=True, PASSCODE=settings.passcode, WORK_KEY=settings.work_key,
        COMPRESS_MIN_SIZE=1_000, COMPRESS_LEVEL=2, COMPRESS_ALGORITHM=["gzip"], COMPRESS_MIMETYPES=COMPRESSED,
    )  # fmt: skip
    CSRFProtect(app).exempt(remote_work.blueprint)
    Compress(app)
    _install_pages(app, settings.language)
    app.url_map.converters["int"] = _Id
    app.url_rule_class = _Rule
    for module in PAGES:
        app.register_blueprint(module.blueprint)
    collect_less_often()
    gc.freeze()  # what exists at the start is left out of collections for good
    app.extensions["tries"] = gate.Tries()
    _time_requests(app)
    guard.guard(app, settings)
    app.before_request(gate.check)
    _register_errors(app, settings.upload_mb)
    return app


class _Rule(Rule):
    """A route whose builder of addresses is compiled when it is first wanted: werkzeug compiles two for each at once, and few of 300 ever
    are. Should werkzeug call this otherwise one day, nothing but that time is lost."""

    def _compile_builder(self, append_unknown: bool = True) -> Callable[..., tuple[str, str]]:
        def build(rule: Rule, **values: object) -> tuple[str, str]:
            made = Rule._compile_builder(rule, append_unknown).__get__(rule)
            setattr(rule, "_build_unknown" if append_unknown else "_build", made)
            return made(**values)

        return build


class _Id(IntegerConverter):
    """Ids in addresses, as large as the store holds them."""

    regex = r"\d{1,15}"


def _install_pages(app: Flask, language: str) -> None:
    """What templates are made with; in the language they are written in, they are compiled once and kept beside the kernels."""
    app.jinja_options = {"trim_blocks": True, "lstrip_blocks": True}  # so that templates may be laid out as source
    if not install_texts(app, language):
        folder = COMPILED / f"pages-{TEXTS_DIGEST}"
        with suppress(OSError):
            folder.mkdir(parents=True, exist_ok=True)
            app.jinja_env.bytecode_cache = FileSystemBytecodeCache(str(folder))
    app.jinja_env.globals.update(asset=asset_url, term=term, do=_do, remembered=_remembered, running_step=_running_step)
    app.jinja_env.filters.update(clock=clock, signed=_signed, number=lambda v: f"{v:g}", fields=write_command)


def compile_pages() -> None:
    """Compile every template ahead of the first start."""
    app = Flask(__name__)
    _install_pages(app, Settings().language)
    for name in app.jinja_env.list_templates():
        app.jinja_env.get_template(name)


_drawn: Results[Markup] = Results(4_000_000, len)


def _remembered(macro: Macro, *given: object) -> Markup:
    """What a macro makes of values, made once: for parts of a page that most edits leave as they are. The macro may use
    nothing but what it is given."""
    return _drawn.get_or_make((macro.name, given), lambda: Markup(macro(*given)))


def _running_step() -> Running | None:
    """The step whose timer runs, for the head of every page."""
    studio: Studio = current_app.extensions["studio"]
    return studio.today.running()


def _do(kind: str, **fields: object) -> Markup:
    """The attribute of a button that gives a command; fields without a value are left out."""
    told = {"kind": kind, **{name: value for name, value in fields.items() if value is not None}}
    return Markup("data-do='{}'").format(Markup(htmlsafe_json_dumps(told)))


def _register_errors(app: Flask, upload_mb: int) -> None:
    """What is said where no page of the program answers."""
    app.register_error_handler(EscaleraError, _plain)
    app.register_error_handler(DamagedState, _damaged)
    told: tuple[tuple[type[Exception] | int, int, str], ...] = (
        (CSRFError, 400, "This page was open for too long or in a stale window. Load it again."),
        (404, 404, "There is nothing at this address. The shelf lists the songs there are."),
        (
            413,
            413,
            f"The file is larger than {upload_mb} MB, the most that is read. Export less, or raise ESCALERA_UPLOAD_MB.",
        ),
    )
    app.register_error_handler(Exception, _unforeseen)
    for error, status, sentence in told:
        app.register_error_handler(error, lambda _, sentence=sentence, status=status: _page(sentence, status))


def _signed(points: float) -> str:
    """+0.8, −0.3, and 0.0 for what rounds to nothing."""
    text = f"{points:+.1f}"
    return "0.0" if text in ("+0.0", "-0.0") else text.replace("-", "−")


def _secret(folder: Path) -> str:
    """The key that signs cookies, made once; written aside and renamed, so that it is never half there."""
    path = folder / "secret.key"
    try:
        kept = path.read_text("ascii").strip()
    except (FileNotFoundError, UnicodeDecodeError):
        kept = ""
    except OSError as error:
        raise StoreError(f"{path} cannot be read ({error.strerror}). Check its rights, or move it away.") from error
    if len(kept) >= 32:
        return kept
    made, fresh = secrets.token_hex(32), path.with_suffix(".new")
    try:
        fresh.touch(0o600)
        fresh.write_text(made)
        fresh.replace(path)
    except OSError:  # a folder that can only be read: a key for this run
        return made
    return made


def _unforeseen(error: Exception) -> Page | HTTPException:
    """What should not have happened: into the log, under an id that the sentence says."""
    if isinstance(error, HTTPException):
        return error
    id = log_error(f"{request.method} {request.path}")
    return _page(
        f"Something went wrong that should not (error {id}). Nothing was lost; your last change may not have been made. "
        f"The log in the data folder says more under this id.",
        500,
    )


def _time_requests(app: Flask) -> None:
    """Every answer into the log, with how long it took."""

    def begin() -> None:
        g.begun = time.perf_counter()

    def end(response: Response) -> Response:
        took = 1000 * (time.perf_counter() - g.get("begun", time.perf_counter()))
        level = logging.DEBUG if request.endpoint in ("static", "code.script") else logging.INFO
        LOG.log(level, "%s %s %d %.0f ms", request.method, request.path, response.status_code, took)
        return response

    app.before_request(begin)
    app.after_request(end)


def _damaged(error: DamagedState) -> Page:
    """A song that cannot be read: the way back to its last readable state."""
    if request.headers.get("HX-Request"):
        return _plain(error)
    return render_template("damaged.html", message=str(error), song_id=error.song_id), error.status, {}


Page = tuple[str, int, dict[str, str]]


def _plain(error: EscaleraError) -> Page:
    return _page(str(error), error.status)


def _page(message: str, status: int) -> Page:
    """A plain sentence: as a notice for a fragment, whose place keeps what it shows; as a page otherwise."""
    if request.headers.get("HX-Request"):
        return render_template("_notice.html", message=message, kind="error"), status, {"HX-Reswap": "none"}
    return render_template("error.html", message=message), status, {}

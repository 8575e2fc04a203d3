"""Commands that run the program: serve, demo, warm, backup."""

from __future__ import annotations

import compileall
import signal
import threading
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

import escalera
from escalera.errors import InputError
from escalera.settings import Settings

if TYPE_CHECKING:
    from escalera.services.studio import Studio


PATIENCE_S = 0.4  # after an edit a page asks for its sound at once, and for its measurement while it plays


def serving(upload_mb: int) -> dict[str, object]:
    """How connections are held: many at once, idle ones let go, bodies refused by their announced length."""
    return {
        "threads": 6,
        "ident": "escalera",
        "connection_limit": 900,
        "channel_timeout": 30,
        "cleanup_interval": 5,
        "asyncore_use_poll": True,
        "max_request_header_size": 64_000,
        "max_request_body_size": upload_mb * 1_000_000 + 100_000,
    }


def _serve(host: str, port: int, opened: Studio | None = None) -> None:
    import waitress

    from escalera.services.logs import open_log
    from escalera.services.memory import hold_little, without_collecting

    if host not in ("127.0.0.1", "localhost", "::1") and not Settings().passcode:
        raise InputError(
            f"Serving on {host} lets other machines in. Set ESCALERA_PASSCODE first, or serve on 127.0.0.1."
        )
    hold_little()
    with without_collecting():
        from escalera.web import create_app

        app = create_app(opened)
    running = app.extensions["studio"]
    log = open_log(running.folder, Settings().log)
    running.rendering.may_measure.clear()
    running.rendering.patience_s = PATIENCE_S
    threading.Thread(target=_settle_in, args=(running,), name="settling in", daemon=True).start()
    click.echo(
        f"Escalera is at http://{host}:{port} (stop with Ctrl-C)" + (f"; its log is {log}" if log else ""), err=True
    )
    try:
        waitress.serve(app, host=host, port=port, **serving(Settings().upload_mb))
    except OSError as error:
        raise InputError(
            f"Port {port} on {host} cannot be used ({error.strerror}). Choose another with --port."
        ) from error


def _settle_in(running: Studio) -> None:
    """In the background, once the first pages and sounds are on their way."""
    time.sleep(3.0)
    running.rendering.may_measure.set()
    running.begin_work(Settings().workers)
    import escalera.meters.kernels  # noqa: F401
    from escalera.services.memory import let_compiler_go
    from escalera.sound.compilation import load_all

    load_all()
    let_compiler_go()


@click.command()
@click.option("--host", default=lambda: Settings().host, show_default="127.0.0.1", help="Address to serve on.")
@click.option("--port", default=lambda: Settings().port, type=int, show_default="5000", help="Port to serve on.")
def serve(host: str, port: int) -> None:
    """Serve Escalera to the browser."""
    _serve(host, port)


@click.command()
@click.option("--seed-only", is_flag=True, help="Only put the demo songs on the shelf.")
@click.option("--no-year", is_flag=True, help="Leave out the made-up year: songs at every stage, sets, dates.")
@click.option("--port", default=lambda: Settings().port, type=int, show_default="5000", help="Port to serve on.")
def demo(seed_only: bool, no_year: bool, port: int) -> None:
    """Serve with demo songs; songs that are already there are kept."""
    from escalera.cli.common import studio
    from escalera.services.demo_shelf import begin_demo, put_all

    with studio() as opened:
        count = (put_all if seed_only else begin_demo)(opened, with_year=not no_year)
        more = "" if seed_only else " More are made while you look at them."
        said = f"{count} demo songs put on the shelf.{more}" if count else "The shelf has songs already; they are kept."
        click.echo(said, err=True)
        if not seed_only:
            _serve(Settings().host, port, opened)


@click.command()
@click.option("--server", default="", help="Take work from this server instead, e.g. http://studio:5000.")
def work(server: str) -> None:
    """Work through long work (exports) beside the server, in a process of its own.

    With --server it helps a server on another machine to render, with the key that both have as ESCALERA_WORK_KEY.
    """
    if server:
        _work_for(server)
        return
    from escalera.cli.common import studio
    from escalera.services.jobs import Worker
    from escalera.services.memory import hold_little

    hold_little()
    with studio() as opened:
        worker = Worker(opened.jobs)
        signal.signal(signal.SIGTERM, lambda *_: worker.close())
        click.echo(f"Working on what {opened.folder.name} has to do (stop with Ctrl-C).", err=True)
        worker.work()


def _work_for(server: str) -> None:
    from escalera.services.memory import hold_little
    from escalera.services.remote_worker import RemoteWorker

    settings = Settings()
    if not settings.work_key:
        raise InputError("Set ESCALERA_WORK_KEY to the key that the server was started with, 16 characters or more.")
    hold_little()
    worker = RemoteWorker(server, settings.work_key, settings.cache_mb, lambda line: click.echo(line, err=True))
    signal.signal(signal.SIGTERM, lambda *_: worker.close())
    click.echo(f"Rendering for {server} (stop with Ctrl-C).", err=True)
    worker.work()


@click.command()
@click.option("--json", "as_json", is_flag=True)
def doctor(as_json: bool) -> None:
    """Say what is installed, missing, slow, full or damaged; status 1 where something is wrong."""
    import json

    from escalera.cli.common import studio
    from escalera.services.doctor import BAD, examine

    with studio() as opened:
        rows = list(examine(opened))
    if as_json:
        click.echo(json.dumps({"rows": [{"state": r.state, "what": r.what, "said": r.said} for r in rows]}))
    else:
        for row in rows:
            click.echo(f"{row.state:8} {row.what:16} {row.said}")
    if any(row.state == BAD for row in rows):
        raise SystemExit(1)


@click.command()
def warm() -> None:
    """Compile program, pages and sound kernels, so that nothing compiles while you start or work."""
    from escalera.cli.common import progress
    from escalera.web import compile_pages

    with progress("Compiling") as tell:
        compileall.compile_dir(Path(escalera.__file__).parent, quiet=2)
        compile_pages()
        from escalera.meters import kernels as _  # noqa: F401

        tell(0.2)
        from escalera.sound.compilation import load_all

        load_all()
        tell(1.0)


@click.command()
@click.argument("path", type=click.Path(path_type=Path))
def backup(path: Path) -> None:
    """Copy the database to PATH while it is in use."""
    from escalera.cli.common import studio

    with studio() as opened:
        opened.backup(path)
    click.echo(f"Backed up to {path}.", err=True)


COMMANDS = (serve, demo, work, doctor, warm, backup)

"""Commands that run the program: serve, demo, warm, backup."""

from __future__ import annotations

from pathlib import Path

import click

from escalera.errors import InputError
from escalera.settings import value


def _serve(host: str, port: int) -> None:
    import waitress

    from escalera.web import create_app

    if host not in ("127.0.0.1", "localhost", "::1") and not value("passcode"):
        raise InputError(
            f"Serving on {host} lets other machines in. Set ESCALERA_PASSCODE first, or serve on 127.0.0.1."
        )
    app = create_app()
    click.echo(f"Escalera is at http://{host}:{port} (stop with Ctrl-C)", err=True)
    try:
        waitress.serve(app, host=host, port=port, threads=6, ident="escalera")
    except OSError as error:
        raise InputError(
            f"Port {port} on {host} cannot be used ({error.strerror}). Choose another with --port."
        ) from error


@click.command()
@click.option("--host", default=lambda: value("host"), show_default="127.0.0.1", help="Address to serve on.")
@click.option("--port", default=lambda: int(value("port")), type=int, show_default="5000", help="Port to serve on.")
def serve(host: str, port: int) -> None:
    """Serve Escalera to the browser."""
    _serve(host, port)


@click.command()
@click.option("--seed-only", is_flag=True, help="Only put the demo songs on the shelf.")
@click.option("--port", default=lambda: int(value("port")), type=int, show_default="5000", help="Port to serve on.")
def demo(seed_only: bool, port: int) -> None:
    """Serve with demo songs; songs that are already there are kept."""
    from escalera.cli.common import studio
    from escalera.services.demo import seed_demo

    with studio() as opened:
        made = seed_demo(opened)
    click.echo(
        f"{len(made)} demo songs put on the shelf." if made else "The shelf has songs already; they are kept.", err=True
    )
    if not seed_only:
        _serve(value("host"), port)


@click.command()
def warm() -> None:
    """Compile the sound kernels, so that nothing compiles while you work."""
    from escalera.cli.common import progress

    with progress("Compiling kernels") as tell:
        from escalera.meters import kernels as _  # noqa: F401

        tell(0.2)
        from escalera.sound.kernels import air, bus, drums, effects, partials, tonal  # noqa: F401

        tell(1.0)


@click.command()
@click.argument("path", type=click.Path(path_type=Path))
def backup(path: Path) -> None:
    """Copy the database to PATH while it is in use."""
    from escalera.cli.common import studio

    with studio() as opened:
        opened.backup(path)
    click.echo(f"Backed up to {path}.", err=True)


COMMANDS = (serve, demo, warm, backup)

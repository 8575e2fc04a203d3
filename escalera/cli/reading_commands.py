"""Commands that answer with figures: energy, measure."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import click

from escalera.cli.common import progress, song_from, studio


@click.command()
@click.argument("source")
@click.option("--json", "as_json", is_flag=True, help="Everything, per bar, as JSON.")
def energy(source: str, as_json: bool) -> None:
    """Wanted, arranged and measured energy of a SONG or FILE (renders it first)."""
    from escalera.services.reporting import energy_report

    with studio() as opened, progress("Rendering and measuring") as tell:
        report = energy_report(song_from(source, opened), opened.rendering, tell)
    if as_json:
        click.echo(json.dumps(report))
        return
    click.echo(f"{'section':24} {'bars':>9} {'wanted':>7} {'arranged':>9} {'measured':>9}")
    for s in report["sections"]:
        span = f"{s['first_bar']}–{s['last_bar']}"
        click.echo(f"{s['name'][:24]:24} {span:>9} {s['target']:7.1f} {s['arranged']:9.1f} {s['measured']:9.1f}")
    a = report["agreement"]
    click.echo(
        f"{a['joins_as_meant']} of {a['joins']} joins move as the targets do; mean distance {a['mean_distance']:.1f}"
    )


@click.command()
@click.argument("audio", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True)
def measure(audio: Path, as_json: bool) -> None:
    """Loudness, true peak, bands and correlation of an AUDIO file."""
    from escalera.services.reporting import measure_report

    report = measure_report(audio.read_bytes())
    if as_json:
        click.echo(json.dumps(report))
        return
    for name, value in report.items():
        rows: dict[str, Any] = value if isinstance(value, dict) else {"": value}
        for key, figure in rows.items():
            click.echo(f"{name} {key}".strip() + f": {'–' if figure is None else figure}")


COMMANDS = (energy, measure)

"""Commands that answer with figures: energy, measure, balance."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import click

from escalera.cli.common import progress, song_from, studio
from escalera.cli.judging_commands import section_named


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


@click.command()
@click.argument("source")
@click.option("--section", "section_name", default="", help="One section by its name; all of them otherwise.")
@click.option("--json", "as_json", is_flag=True)
def balance(source: str, section_name: str, as_json: bool) -> None:
    """Levels, width, what is heard of every layer and what hides it, in a SONG or FILE (renders it first); of a recording, its levels."""
    from escalera.services.balance_report import balance_of_file, balance_report, is_recording

    if is_recording(source):
        report = balance_of_file(Path(source))
    else:
        with studio() as opened:
            song = song_from(source, opened)
            section = section_named(song, section_name).id if section_name else None
            report = balance_report(opened.rendering, song, section)
    if as_json:
        click.echo(json.dumps(report, ensure_ascii=False))
        return
    for s in report["sections"]:
        level = "silent" if s["integrated_lufs"] is None else f"{s['integrated_lufs']:.1f} LUFS"
        click.echo(
            f"{s['name'][:24]:24} {level:>12}  mono {s['mono_loss_db'] or 0.0:+.1f} dB  limiter {s['limiter_db'] or 0.0:+.1f} dB"
        )
        for layer in sorted(s["layers"], key=lambda row: -row["audible"]):
            click.echo(f"    {layer['name'][:28]:28} {100 * layer['audible']:3.0f} % heard")
        for row in s["masking"][:3]:
            click.echo(f"    {row['by']} hides {row['masked']} at {row['band']}, {row['db']:+.0f} dB")


COMMANDS = (energy, measure, balance)

"""Commands of rhythm: groove, grooves."""

from __future__ import annotations

import json
from pathlib import Path

import click

from escalera.core.rhythm.measures import measures
from escalera.core.rhythm.spoken_beats import parse_spoken, write_spoken
from escalera.core.time.metre import parse_metre

TEMPO_BPM = 120.0


@click.command()
@click.argument("spoken")
@click.option("--metre", "metre_text", default="4/4")
@click.option("--json", "as_json", is_flag=True)
def groove(spoken: str, metre_text: str, as_json: bool) -> None:
    """A spoken beat ("boom ka boom-boom ka") as hits, with its measures."""
    metre = parse_metre(metre_text)
    played = parse_spoken(spoken, metre)
    figures = measures(played, TEMPO_BPM)
    hits = [
        {"beat": round(h.tick / metre.beat_ticks, 6), "drum": h.drum, "velocity": round(h.velocity / 127, 2)}
        for h in played.hits
    ]
    report = {
        "metre": str(metre),
        "bars": played.bars,
        "hits": hits,
        "spoken": write_spoken(played),
        "measures": {"hits_per_beat": round(figures.hits_per_beat, 4), "syncopation": figures.syncopation},
    }
    if as_json:
        click.echo(json.dumps(report))
        return
    for h in hits:
        click.echo(f"beat {h['beat']:7.3f}  {h['drum']:15} {h['velocity']:.2f}")
    click.echo(f"{report['spoken']}  ({figures.hits_per_beat:.2f} hits a beat, syncopation {figures.syncopation:.2f})")


@click.command()
@click.option(
    "--like",
    "source",
    type=click.Path(path_type=Path),
    help="A MIDI file; the grooves nearest to its drums come first.",
)
@click.option("--json", "as_json", is_flag=True)
def grooves(source: Path | None, as_json: bool) -> None:
    """The built-in grooves; with --like, those nearest to a drum track and what differs."""
    if source is None:
        _built_in(as_json)
    else:
        _nearest(source, as_json)


def _built_in(as_json: bool) -> None:
    from escalera.services.library import grooves as built_in

    rows = [
        {"name": g.name, "feel": g.feel, "energy": g.energy, "role": g.role, "metre": str(g.beat.metre), "spoken": write_spoken(g.beat)}
        for g in built_in().values()
    ]  # fmt: skip
    if as_json:
        click.echo(json.dumps({"grooves": rows}))
        return
    for row in rows:
        click.echo(f"{row['name']:28} {row['feel']:18} {row['energy']} {row['role']:13} {row['spoken']}")


def _nearest(source: Path, as_json: bool) -> None:
    from escalera.services.groove_library import Alike, alike, groove_of_midi

    read = groove_of_midi(source.name, source.read_bytes())
    near = alike(read.beat, limit=6)

    def row(a: Alike) -> dict[str, object]:
        beat_ticks = read.beat.metre.beat_ticks
        changes = [{"kind": c.kind, "drum": c.drum, "beat": round(c.tick / beat_ticks, 4)} for c in a.changes]
        return {"name": a.name, "feel": a.feel, "distance": a.distance, "changes": changes}

    if as_json:
        told = {"spoken": write_spoken(read.beat), "swing": read.swing, "looseness_ms": read.looseness_ms}
        click.echo(json.dumps({**told, "near": [row(a) for a in near]}))
        return
    click.echo(f"{write_spoken(read.beat)}  ({' '.join(read.report)})")
    for a in near:
        click.echo(f"{a.distance:6.2f}  {a.name:28} {a.feel:18} {len(a.changes)} hits differ")


COMMANDS = (groove, grooves)

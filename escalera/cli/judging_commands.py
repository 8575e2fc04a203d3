"""Commands that judge and advise: checks, helps, moves."""

from __future__ import annotations

import json

import click

from escalera.cli.common import song_from, studio
from escalera.core.document.song import Section, Song
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError, shown


def section_named(song: Song, name: str) -> Section:
    """A section by its name, or NAME@BAR where two have it. Raises InputError with the names there are."""
    wanted, _, bar = name.rpartition("@") if "@" in name else (name, "", "")
    spans = [s for s in timeline(song).spans if s.section.name.casefold() == wanted.strip().casefold()]
    if bar:
        spans = [s for s in spans if bar.strip().lstrip("-").isdecimal() and s.first_bar <= int(bar[:9]) <= s.last_bar]
    if len(spans) == 1:
        return spans[0].section
    if spans:
        places = ", ".join(f"{s.section.name}@{s.first_bar}" for s in spans)
        raise InputError(f"{len(spans)} sections are called “{shown(wanted)}”. Say which one: {places}.")
    names = ", ".join(dict.fromkeys(s.name for s in song.sections)) or "none"
    raise InputError(f"The song has no section “{shown(name)}”. It has: {names}.")


@click.command()
@click.argument("source")
@click.option("--json", "as_json", is_flag=True)
def checks(source: str, as_json: bool) -> None:
    """What is found in a SONG or FILE, the weightiest first."""
    from escalera.services.judging import findings_report

    with studio() as opened:
        report = findings_report(song_from(source, opened))
    if as_json:
        click.echo(json.dumps(report))
        return
    for row in report["findings"]:
        more = f" (and {row['members'] - 1} more)" if row["members"] > 1 else ""
        accepted = f" [accepted: {row['accepted']}]" if row["accepted"] else ""
        click.echo(f"{row['weight']:5.1f}  {row['title']}: {row['said']}{more}{accepted}")
    if not report["findings"]:
        click.echo("Nothing was found.")


@click.command()
@click.argument("source")
@click.option("--section", "name", required=True, help="Its name, or NAME@BAR where two have it.")
@click.option("--json", "as_json", is_flag=True)
def helps(source: str, name: str, as_json: bool) -> None:
    """What would bring a section of a SONG or FILE nearer to its target."""
    from escalera.services.judging import helps_report

    with studio() as opened:
        song = song_from(source, opened)
        report = helps_report(song, section_named(song, name))
    if as_json:
        click.echo(json.dumps(report))
        return
    for row in report["helps"]:
        click.echo(f"{row['change']:+5.1f} → {row['then']:4.1f}  {row['name']}")
    if not report["helps"]:
        click.echo("It is where it should be, or no single step brings it nearer.")


@click.command()
@click.argument("source")
@click.option("--json", "as_json", is_flag=True)
def joins(source: str, as_json: bool) -> None:
    """What carries every join of a SONG or FILE, its gap, its tension, and how much louder every band is after it."""
    from escalera.services.join_service import joins_report

    with studio() as opened:
        report = joins_report(opened.rendering, song_from(source, opened))
    if as_json:
        click.echo(json.dumps(report))
        return
    for row in report["joins"]:
        click.echo(
            f"{row['bar']:4}  {row['from']} → {row['to']}, gap {row['gap_beats']:g} beats, tension highest at {row['tension_peak']}"
        )
        for device in row["devices"]:
            click.echo(
                f"        {device['start']} to {device['end']}  {device['kind']}{'' if device['placed'] else ' (found)'}"
            )
        click.echo("        " + ", ".join(f"{band} Hz {db:+.1f} dB" for band, db in row["contrast_db"].items()))
    if not report["joins"]:
        click.echo("The song has one section, and so no join.")


@click.command()
@click.argument("song")
@click.option("--section", "name", required=True, help="Its name, or NAME@BAR where two have it.")
@click.option(
    "--do", "move", default="", help="Make this move, as one step that can be undone; without it, moves are listed."
)
def moves(song: str, name: str, move: str) -> None:
    """The moves of a section of SONG, or make one of them."""
    from escalera.services.judging import moves_report, named_move

    if not song.isdecimal():
        raise InputError(f"“{shown(song)}” is not the id of a song. `escalera songs` lists them.")
    with studio() as opened:
        head = opened.head(int(song))
        section = section_named(head.song, name)
        if not move:
            for row in moves_report(head.song, section):
                click.echo(f"{row['move']:40}  {row['change']:+5.1f}  {row['name']}")
            return
        fields = {"kind": "move", "section_id": str(section.id), "move": named_move(head.song, section, move)}
        outcome = opened.command(head.song_id, head.revision_id, fields)
    click.echo(outcome.summary)


@click.command()
@click.argument("song")
@click.option(
    "--form", default="", help="A form's name, or a list such as 'intro 8, verse 16'; without it, the song's own."
)
@click.option("--alternatives", default=3, type=click.IntRange(1, 3), help="How many, 1 to 3.")
@click.option(
    "--take", default=0, type=click.IntRange(0, 3), help="Take this one (from 1), as a step that can be undone."
)
@click.option("--json", "as_json", is_flag=True)
def layout(song: str, form: str, alternatives: int, take: int, as_json: bool) -> None:
    """Ways of laying out SONG after its targets. Nothing is changed without --take."""
    from escalera.services.layouts import fields_of, laid_out, layouts_report

    with studio() as opened:
        given = song_from(song, opened)
        found = laid_out(given, form, max(alternatives, take))
        if take and not song.isdecimal():
            raise InputError(f"“{shown(song)}” is a file. Import it, then take a layout of the song.")
        if take:
            head = opened.head(int(song))
            click.echo(opened.command(head.song_id, head.revision_id, fields_of(found[take - 1], form)).summary)
            return
    report = layouts_report(found)
    if as_json:
        click.echo(json.dumps(report))
        return
    for number, row in enumerate(report, 1):
        click.echo(f"{number}  {row['name']}: {row['joins_as_meant']} of {row['joins']} joins as meant")
        for section in row["sections"]:
            click.echo(
                f"      {section['name']:20} target {section['target']:4.1f}  arranged {section['arranged']:4.1f}"
            )
        for line in row["out_of_reach"]:
            click.echo(f"      {line}")


@click.command()
@click.argument("words", nargs=-1)
def starts(words: tuple[str, ...]) -> None:
    """The starting loops, those that WORDS fit first."""
    from escalera.services.starting_loops import loops_for

    for loop in loops_for(" ".join(words)):
        click.echo(
            f"{loop.key:24} {loop.school:9} {loop.tempo_bpm:5g} bpm  {loop.metre:4} {loop.music_key:9} {loop.said}"
        )


COMMANDS = (checks, helps, joins, layout, moves, starts)

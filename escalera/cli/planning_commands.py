"""Commands of the daily work: today, board, plan, dates, set, prompt, statistics."""

from __future__ import annotations

import json
from datetime import date
from pathlib import Path

import click

from escalera.cli.common import studio
from escalera.errors import InputError, NotFound, shown
from escalera.services.studio import Studio


def _read_all(opened: Studio) -> None:
    """What is known of songs as they are now: a command waits where a page would not."""
    opened.index.read_all(lambda share: None, lambda: True)


@click.command()
@click.option("--mode", type=click.Choice(["start", "finish"]), default="finish", show_default=True)
@click.option("--minutes", default=30, show_default=True, help="How many minutes there are.")
@click.option("--json", "as_json", is_flag=True)
def today(mode: str, minutes: int, as_json: bool) -> None:
    """What to do next in the minutes there are, over all songs."""
    with studio() as opened:
        _read_all(opened)
        found = opened.today.told(mode, minutes, date.today()).offers
    rows = [
        {
            "song": o.song.title, "song_id": o.song.song_id, "step": o.step.said, "why": o.step.why, "minutes": o.size.minutes,
            "low_minutes": o.size.low, "high_minutes": o.size.high, "of_own_steps": o.size.count, "fits": o.fits, "reason": o.reason,
        }
        for o in found
    ]  # fmt: skip
    if as_json:
        click.echo(json.dumps(rows, ensure_ascii=False))
    for row in () if as_json else rows[:12]:
        click.echo(f"{row['minutes']:>4} min  {row['song']}: {row['step']} ({row['why']})")
    if not rows and not as_json:
        click.echo("Nothing waits. Begin a song, or set a stage on the board.")


@click.command()
@click.option("--json", "as_json", is_flag=True)
def board(as_json: bool) -> None:
    """All songs by the stage they have reached, with what the next stage lacks."""
    with studio() as opened:
        _read_all(opened)
        songs, usual, now = opened.index.all().active, opened.planning.usual(), date.today()
        plans = [(s, opened.planning.plan_of(s, usual, now)) for s in songs]
    if as_json:
        rows = [
            {"id": s.song_id, "title": s.title, "stage": p.now.stage, "days": p.days, "lacks": [x.said for x in p.lacks],
             "conflicts": [c.said for c in p.conflicts]}
            for s, p in plans
        ]  # fmt: skip
        click.echo(json.dumps(rows, ensure_ascii=False))
        return
    for s, p in sorted(plans, key=lambda row: row[1].now.since):
        lacks = f", lacks {len(p.lacks)} for {p.now.next}" if p.lacks else ""
        click.echo(f"{s.song_id:>4}  {p.now.stage:10} {p.days:>5} days  {s.title}{lacks}")


@click.command()
@click.argument("song", required=False, type=int)
@click.option("-o", "--out", "path", type=click.Path(path_type=Path), help="Write a calendar (.ics) to this file.")
def dates(song: int | None, path: Path | None) -> None:
    """What is due, of all songs or of a SONG by its id; as a list, or as a calendar."""
    with studio() as opened:
        _read_all(opened)
        if song is not None:
            opened.head(song)
        rows = [r for r in opened.planning.due_rows(date.today()) if song in (None, r.song_id)]
        calendar = opened.planning.calendar(song or 0)
    if path is not None:
        path.write_bytes(calendar)
        click.echo(f"{len([r for r in rows if not r.done])} dates written to {path}.", err=True)
        return
    for r in rows:
        click.echo(f"{r.on}  {'done' if r.done else f'{r.days:>4} days'}  {r.title}: {r.what}")


@click.command("set")
@click.argument("name", required=False)
@click.option("--suggest", default="", help="Another order for a shape: late peak, rising, falling asleep, two hills.")
@click.option("--json", "as_json", is_flag=True)
def song_set(name: str | None, suggest: str, as_json: bool) -> None:
    """The sets, or a set by its NAME or number: how it runs, its joins, what tires or jars, another order."""
    from escalera.core.sets.set_order import SET_SHAPES
    from escalera.services.song_sets import set_report

    if suggest and suggest not in SET_SHAPES:
        raise InputError(f"“{shown(suggest)}” is no shape. Choose one of: {', '.join(SET_SHAPES)}.")
    with studio() as opened:
        _read_all(opened)
        told = opened.sets.all()
        found = [t for t in told if name is None or name.casefold() in (str(t.id), t.document.name.casefold())]
        if name is not None and not found:
            raise NotFound(
                f"There is no set “{shown(name)}”. There are: {', '.join(t.document.name for t in told) or 'none'}."
            )
        reports = [set_report(t) for t in found]
        for report, each in zip(reports, found):
            report["orders"] = [
                {"shape": s.shape, "songs": [p.facts.title for p in s.read.songs], "findings": len(s.findings)}
                for s in (opened.sets.suggestions(each.id, []) if suggest else ())
                if s.shape == suggest
            ]
    if as_json:
        click.echo(json.dumps(reports, ensure_ascii=False))
        return
    for report in reports:
        _tell_set(report)


def _tell_set(report: dict[str, object]) -> None:
    from escalera.core.time.ticks import clock

    click.echo(f"{report['name']}, {report['kind']}, {clock(float(str(report['seconds'])))}")
    songs, joins = report["songs"], report["joins"]
    assert isinstance(songs, list) and isinstance(joins, list)
    for place, s in enumerate(songs):
        click.echo(
            f"{s['place']:>4}  {clock(s['begins_s']):>7}  {s['title']}, {s['tempo_bpm']:g} bpm, {s['key']}, {s['energy']:.1f}"
        )
        if place < len(joins):
            click.echo(f"               {joins[place]}")
    for found in report["findings"]:  # type: ignore[attr-defined]
        click.echo(f"  {found['check']}: {found['said']} {found['remedy']}")
    for order in report["orders"]:  # type: ignore[attr-defined]
        click.echo(f"  {order['shape']}: {' · '.join(order['songs'])}")


@click.command()
@click.option("--another", default=0, help="Another one of this week.")
@click.option("--begin", is_flag=True, help="Begin a song of it.")
def prompt(another: int, begin: bool) -> None:
    """The prompt of the week; and a song that begins with it."""
    from escalera.services.planning import song_of_prompt

    with studio() as opened:
        found = opened.planning.prompt_of_week(date.today(), another)
        click.echo(f"{found.name}: {found.said}")
        if begin:
            click.echo(f"song {opened.add_song(song_of_prompt(found), f'Prompt: {found.said}'[:200])}")


@click.command("statistics")
@click.option("--json", "as_json", is_flag=True)
def work_statistics(as_json: bool) -> None:
    """What the work so far looks like: begun, finished, how long, where songs wait, what repeats."""
    from dataclasses import asdict

    with studio() as opened:
        _read_all(opened)
        found = opened.planning.statistics(date.today())
    if as_json:
        click.echo(json.dumps(asdict(found), ensure_ascii=False))
        return
    for said in found.said.values():
        click.echo(said)


COMMANDS = (today, board, dates, song_set, prompt, work_statistics)

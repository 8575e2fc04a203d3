"""Commands of setting work and judging it."""

from __future__ import annotations

import csv
import json
import sys
from pathlib import Path
from typing import Any

import click

from escalera.cli.common import progress, studio
from escalera.core.handing.file_names import plain_name
from escalera.errors import EscaleraError


@click.group()
def task() -> None:
    """Tasks: written from what people say, listed, taken from a song."""


@task.command("new")
@click.argument("text")
@click.option("--title", default="", help="Its title, where the text does not begin with one.")
@click.option(
    "-o", "--out", "path", type=click.Path(path_type=Path), help="The file; beside, named by the title, without."
)
def new_task(text: str, title: str, path: Path | None) -> None:
    """Write a task from TEXT, a sentence a criterion (- reads standard input); prints the path of its file."""
    from escalera.core.tasks.task_text import read_task
    from escalera.services.tasks import task_text

    found = read_task(sys.stdin.read() if text == "-" else text, title)
    target = path or Path(f"{plain_name(found.task.title)}.task.json")
    target.write_text(task_text(found.task), encoding="utf-8")
    for row in found.left:
        click.echo(f"Left to people: {row}", err=True)
    click.echo(str(target))


@task.command("library")
@click.argument("number", required=False, type=click.IntRange(1, 10))
def show_library(number: int | None) -> None:
    """The ten tasks of the course; with NUMBER one of them as a file on standard output."""
    from escalera.services.task_library import task_library
    from escalera.services.tasks import task_text

    if number is not None:
        click.echo(task_text(task_library()[number - 1].task), nl=False)
        return
    for each in task_library():
        click.echo(f"{each.task.level:>2}  {each.task.title}: {each.task.said}")


@task.command("of")
@click.argument("song", type=int)
@click.option("-o", "--out", "path", type=click.Path(path_type=Path), required=True)
def task_of(song: int, path: Path) -> None:
    """A task out of the form of SONG, by its id."""
    from escalera.core.energy.model import arranged
    from escalera.core.tasks.task_text import task_of_form
    from escalera.services.tasks import task_text

    with studio() as opened:
        found = opened.head(song).song
    path.write_text(task_text(task_of_form(found, [s.value for s in arranged(found).sections])), encoding="utf-8")
    click.echo(str(path))


@click.command()
@click.argument("task_file", metavar="TASK", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.argument("submissions", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True))
@click.option("--json", "as_json", is_flag=True)
@click.option("--csv", "as_csv", is_flag=True)
def judge(task_file: Path, submissions: tuple[Path, ...], as_json: bool, as_csv: bool) -> None:
    """Judge SUBMISSION… (projects, MIDI files, WAV files with markers; folders and zips of them) by TASK."""
    import tempfile

    from escalera.services.tasks import marks_report, read_task_file

    found = read_task_file(task_file.read_bytes())
    rows: list[dict[str, Any]] = []
    with studio() as opened, tempfile.TemporaryDirectory() as aside, progress("Judging") as tell:
        files = _files(submissions, Path(aside))
        for number, (name, path) in enumerate(files, 1):
            try:
                rows.append(marks_report(name, opened.tasks.marks(found, opened.tasks.read_work(path, name))))
            except EscaleraError as error:
                rows.append({"file": name, "points": None, "of": None, "criteria": [], "trouble": str(error)})
            tell(number / len(files))
    if as_json:
        click.echo(json.dumps(rows, ensure_ascii=False))
    elif as_csv:
        _table(rows, len(found.criteria))
    else:
        for row in rows:
            _tell(row)


def _files(given: tuple[Path, ...], aside: Path) -> list[tuple[str, Path]]:
    """Every file that was handed in, with its name: folders and zips of submissions opened."""
    from escalera.services.tasks import SUFFIXES, is_project_bundle, need_few, plain_file_name, unpack_submissions

    found: list[tuple[str, Path]] = []
    for number, path in enumerate(given):
        if path.is_dir():
            found += [(p.name, p) for p in sorted(path.iterdir()) if p.is_file() and p.suffix.lower() in SUFFIXES]
        elif path.suffix.lower() == ".zip" and not is_project_bundle(path):
            folder = aside / str(number)
            folder.mkdir()
            found += unpack_submissions(path, folder)
        else:
            found.append((plain_file_name(path.name), path))
    need_few(len(found))
    return found


def _table(rows: list[dict[str, Any]], count: int) -> None:
    from escalera.cleaning import neutral_cell

    out = csv.writer(sys.stdout)
    out.writerow(["file", "points", "of", *range(1, count + 1), "trouble"])
    for row in rows:
        points = [c["points"] for c in row["criteria"]] or [""] * count
        out.writerow(
            [neutral_cell(row["file"]), row["points"], row["of"], *points, neutral_cell(row.get("trouble", ""))]
        )


def _tell(row: dict[str, Any]) -> None:
    if row.get("trouble"):
        click.echo(f"{row['file']}: {row['trouble']}")
        return
    click.echo(f"{row['file']}: {row['points']:g} of {row['of']:g}")
    for c in row["criteria"]:
        met = {True: "met", False: "not met", None: "not told"}[c["met"]]
        click.echo(
            f"  {met:8} {c['points']:5.1f}/{c['of']:<5.1f} {c['criterion']}: {c['value']} ({c['limit']}){' ' + c['mend'] if c['mend'] else ''}"
        )


COMMANDS = (task, judge)

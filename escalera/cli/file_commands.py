"""Commands that move songs: songs, new, import, export, render."""

from __future__ import annotations

import json
import re
import shutil
import tempfile
import zipfile
from dataclasses import asdict
from pathlib import Path
from typing import IO

import click

from escalera.cli.common import progress, song_from, studio
from escalera.errors import InputError, shown


@click.command()
def songs() -> None:
    """List the songs, one a line, beginning with the id."""
    from escalera.core.time.ticks import clock

    with studio() as opened:
        for card in opened.shelf():
            p = card.picture
            click.echo(
                f"{card.id}\t{card.title}\t{p['tempo_bpm']:g} bpm\t{p['key']}\t{p['bars']} bars\t{clock(p['seconds'])}"
            )


@click.command()
@click.option("--title", default="Untitled")
@click.option("--tempo", default="", help="Beats a minute, 30 to 300; as the start has it where it is not said.")
@click.option("--metre", default="")
@click.option("--key", default="")
@click.option("--school", default="balanced")
@click.option("--form", default="loop", help="A form's name, or a list such as 'intro 8, verse 16'.")
@click.option(
    "--start",
    default="style",
    help="A starting loop (`escalera starts` lists them), or style, loop, drums, chords, voice, empty.",
)
@click.option("--stance", default="voice", help="Who carries the verses: voice, drums, chords.")
def new(title: str, tempo: str, metre: str, key: str, school: str, form: str, start: str, stance: str) -> None:
    """Make a song, laid out after its targets; prints its id."""
    from escalera.services.new_song import new_song

    own = re.search(r"\d", form) is not None
    with studio() as opened:
        song = new_song(title, tempo, metre, key, school, "loop" if own else form, form if own else "", start, stance)
        click.echo(opened.add_song(song, "New song"))


@click.command("import")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--tempo", default="", help="At which a WAV or table with markers in seconds was made.")
def bring_in(file: Path, tempo: str) -> None:
    """Bring in a project, bundle, MIDI FILE, a form as text or table, or a WAV with markers; prints only the new id."""
    from escalera.services.importing import import_path

    with studio() as opened:
        found = import_path(file, opened.samples, tempo=tempo)
        for line in found.report:
            click.echo(line, err=True)
        opened.samples.adopt(found.song.samples)
        click.echo(opened.add_song(found.song, "Imported"))


@click.command()
@click.argument("song")
@click.option("--format", "key", required=True, help="midi, wav, flac, json, bundle, rights, joins or cue.")
@click.option(
    "--stems", is_flag=True, help="One audio file a layer: in a zip when PATH ends in .zip, else in a folder."
)
@click.option("--dry", is_flag=True, help="Stems without hall and echo.")
@click.option("--bits", default="16", type=click.Choice(["16", "24"]))
@click.option("-o", "output", required=True, type=click.Path(path_type=Path))
def export(song: str, key: str, stems: bool, dry: bool, bits: str, output: Path) -> None:
    """Write SONG as a file."""
    from escalera.services.exporting import Options
    from escalera.services.exporting import export as write

    with studio() as opened, progress("Writing") as tell, tempfile.TemporaryDirectory(dir=opened.folder) as folder:
        options = Options(stems, not dry, int(bits), None, tell)
        made, _ = write(song_from(song, opened), opened.rendering, key, options, Path(folder))
        if stems and output.suffix.lower() != ".zip":
            output.mkdir(parents=True, exist_ok=True)
            with zipfile.ZipFile(made) as archive:
                archive.extractall(output)
        else:
            shutil.move(made, output)


@click.command()
@click.argument("song")
@click.option("-o", "output", required=True, type=click.Path(path_type=Path), help="A .zip file.")
@click.option("--for", "receiver", default="", help="mixer, singer, remixer, drummer, teacher, label or oneself.")
@click.option("--only", default="", help="Parts by their names, with commas: midi,dry,lead-sheet …")
@click.option("--names", "scheme", default="number", help="How stems are named: number, song, family or name.")
@click.option("--sound", "kind", default="wav", type=click.Choice(["wav", "flac"]), help="Files of sound.")
def pack(song: str, output: Path, receiver: str, only: str, scheme: str, kind: str) -> None:
    """Hand SONG over with all that a receiver needs, as one zip."""
    from escalera.core.handing.receivers import parts_for
    from escalera.services.packing import PackOptions, write_pack

    if output.suffix.lower() != ".zip":
        raise InputError(f"“{shown(output.name)}” does not end in .zip. A pack is a zip.")
    with studio() as opened, progress("Packing") as tell:
        options = PackOptions(parts_for(receiver, only), scheme, receiver, kind, tell)
        told = write_pack(song_from(song, opened), opened.rendering, options, output)
    click.echo(f"{len(told['files'])} files in {output.name}")  # type: ignore[arg-type]
    off_db = told["sum_of_buses_off_db"]
    if isinstance(off_db, float):
        click.echo(f"buses add up to the sum; what is left over lies {-off_db:.0f} dB under it")


@click.command()
@click.argument("song")
@click.option("--json", "as_json", is_flag=True)
@click.option("--quick", is_flag=True, help="Without listening to the stems.")
def ready(song: str, as_json: bool, quick: bool) -> None:
    """What of SONG is missing or risky before it is handed over; its stems are listened to."""
    from escalera.core.handing.heard_stems import heard_points
    from escalera.core.handing.readiness import not_ready
    from escalera.services.stems_heard import heard_stems

    with studio() as opened, progress("Listening") as tell:
        found = song_from(song, opened)
        points = not_ready(found) + heard_points(found, () if quick else heard_stems(found, opened.rendering, tell))
    if as_json:
        click.echo(
            json.dumps(
                {"points": [{"rule": p.rule, "said": p.said, "remedy": p.remedy} for p in points]}, ensure_ascii=False
            )
        )
        return
    for point in points:
        click.echo(f"{point.said} {point.remedy}")
    if not points:
        click.echo("Nothing is missing.")


@click.command()
@click.argument("song")
@click.argument("paths", nargs=-1, required=True, type=click.Path(exists=True, path_type=Path))
@click.option("--json", "as_json", is_flag=True)
def returned(song: str, paths: tuple[Path, ...], as_json: bool) -> None:
    """What came back for SONG, beside what it has: same, changed (where), new, missing. Takes nothing."""
    from escalera.services.returned import returned_list

    with studio() as opened:
        found = returned_list(song_from(song, opened), opened.rendering, paths)
    if as_json:
        click.echo(json.dumps(found.plain(), ensure_ascii=False))
        return
    for f in found.files:
        click.echo(
            f"{f.file[:36]:36} {f.state:8} {f.layer or f.kind:20} {f.confidence:5.0%}  {f.said}{'; '.join(f.where[:3])}"
        )
    for name in found.missing:
        click.echo(f"{'':36} missing  {name}")


@click.command()
@click.argument("song")
@click.argument("path", required=False, type=click.File("r", encoding="utf-8"))
@click.option("--who", default="", help="Who said it, where the list does not.")
@click.option("--json", "as_json", is_flag=True)
def feedback(song: str, path: IO[str] | None, who: str, as_json: bool) -> None:
    """What listeners said of SONG; lines of a text file (- for standard input) are taken down first."""
    from escalera.core.feedback.remark_edits import MAX_LIST, TakeDownFeedback
    from escalera.services.feedback_lists import feedback_as_data

    with studio() as opened:
        if path is not None:
            if not song.isdecimal():
                raise InputError(
                    "A list is taken down into a song of the shelf. Say its id; `escalera songs` lists them."
                )
            opened.edit(int(song), opened.head(int(song)).revision_id, TakeDownFeedback(path.read(MAX_LIST + 1), who))
        told = feedback_as_data(song_from(song, opened))
    if as_json:
        click.echo(json.dumps(asdict(told), ensure_ascii=False))
        return
    for row in told.remarks:
        reason = f" ({row.reason})" if row.reason else ""
        click.echo(f"{row.who[:12]:12} {row.place[:24]:24} {row.state:9} {row.said}{reason}")
    for clash in told.contradictions:
        click.echo(f"{clash.about}, {clash.thing}: {clash.more} and {clash.less} contradict each other")


@click.command()
@click.argument("words", nargs=-1)
@click.option("--json", "as_json", is_flag=True)
def logbook(words: tuple[str, ...], as_json: bool) -> None:
    """When was worked, on what, what changed, what was decided; with WORDS only sessions in which they stand."""
    from escalera.services.logbook import session_text

    with studio() as opened:
        found = opened.logbook.sessions(" ".join(words))
    if as_json:
        rows = [{**asdict(s), "began": s.began.isoformat(timespec="minutes")} for s in found]
        click.echo(json.dumps({"sessions": rows}, ensure_ascii=False))
    else:
        click.echo("\n\n".join(session_text(s) for s in found) or "Nothing is in the logbook for that.")


@click.command()
@click.argument("source")
@click.option("-o", "output", required=True, type=click.Path(path_type=Path), help="A .wav or .flac file.")
@click.option("--bars", default="", help="Only these bars, for example 17-24.")
@click.option("--bits", default="16", type=click.Choice(["16", "24"]))
@click.option("--no-cache", is_flag=True, help="Render everything anew.")
def render(source: str, output: Path, bars: str, bits: str, no_cache: bool) -> None:
    """Render a SONG or FILE to audio."""
    from escalera.formats.audio import KINDS
    from escalera.services.exporting import Options
    from escalera.services.exporting import export as write

    kind = output.suffix.lstrip(".").lower()
    if kind not in KINDS:
        raise InputError(
            f"“{shown(output.name)}” does not end in .wav or .flac. Name the file so that its kind is clear."
        )
    span = _bars(bars)
    with studio() as opened, progress("Rendering") as tell, tempfile.TemporaryDirectory(dir=opened.folder) as folder:
        song = song_from(source, opened)
        if no_cache:
            opened.rendering.renderer.cache.clear()
        made, _ = write(song, opened.rendering, kind, Options(bits=int(bits), bars=span, tell=tell), Path(folder))
        shutil.move(made, output)


def _bars(text: str) -> tuple[int, int] | None:
    if not text:
        return None
    match = re.fullmatch(r"\s*(-?\d+)\s*(?:[-–]\s*(-?\d+))?\s*", text)
    if not match:
        raise InputError(f"“{shown(text)}” is not a range of bars. Write the first and the last, for example 17-24.")
    return int(match[1]), int(match[2] or match[1])


COMMANDS = (songs, new, bring_in, export, render, pack, ready, returned, feedback, logbook)

"""Commands of recordings: read, fit, samples."""

from __future__ import annotations

import json
import tempfile
from dataclasses import asdict
from pathlib import Path

import click

from escalera.cli.common import progress, song_from, studio
from escalera.errors import EscaleraError


@click.command("read")
@click.argument("audio", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="A list, one object a file.")
def read(audio: tuple[Path, ...], as_json: bool) -> None:
    """Tempo, bars, key or pitch, loudness and bands of AUDIO files; what cannot be read is null, and said."""
    from escalera.services.sample_report import read_report

    found, failed = [], 0
    for path in audio:
        try:
            found.append(read_report(path))
        except (EscaleraError, OSError) as error:
            failed += 1
            reason = str(error) if isinstance(error, EscaleraError) else error.strerror or str(error)
            click.echo(f"escalera: {path.name}: {reason}", err=True)
            if as_json and len(audio) > 1:
                found.append({"file": path.name, "trouble": reason})
    if failed == len(audio):
        raise click.exceptions.Exit(2)
    if as_json:
        click.echo(json.dumps(found))
        return
    for r in found:
        if "trouble" in r:
            continue
        tempo = f"{r['tempo_bpm']:.5g} bpm ({r['tempo_confidence']:.0%} sure)" if r["tempo_bpm"] else "no tempo"
        bars = f", {r['bars']} bars {r['remainder_beats']:+g} beats" if r["bars"] is not None else ""
        tone = r["key"] or (f"{r['pitch_hz']:.2f} Hz" if r["pitch_hz"] else "no key")
        loud = f"{r['integrated_lufs']:.1f} LUFS" if r["integrated_lufs"] is not None else "silent"
        click.echo(f"{r['file']}: {r['kind']}, {r['seconds']:.3f} s, {tempo}{bars}, {tone}, {loud}")


@click.command()
@click.argument("audio", type=click.Path(path_type=Path))
@click.option("-o", "--output", required=True, type=click.Path(path_type=Path), help="WAV file to write.")
@click.option("--from-tempo", type=float, help="Its tempo; it is read where it is not said.")
@click.option("--tempo", type=float, help="The tempo it is to have.")
@click.option("--semitones", type=float, default=0.0, help="Up or down by so many.")
@click.option("--bars", type=int, help="So many bars it is to last.")
def fit(
    audio: Path, output: Path, from_tempo: float | None, tempo: float | None, semitones: float, bars: int | None
) -> None:
    """Stretch a recording to a tempo or to whole bars, and transpose it; pitch and time apart from each other."""
    from escalera.services.sample_report import fit_file

    done = fit_file(audio, output, from_tempo, tempo, semitones, bars)
    click.echo(f"{done['file']}: {done['seconds']:.3f} s, {done['ratio']:.4g} times as long", err=True)


@click.group("samples", invoke_without_command=True)
@click.option("--json", "as_json", is_flag=True)
@click.pass_context
def samples(ctx: click.Context, as_json: bool) -> None:
    """List the recordings of the library; `samples add PATH…` brings files and folders in."""
    if ctx.invoked_subcommand:
        return
    with studio() as opened:
        cards = opened.samples.cards()
    if as_json:
        click.echo(json.dumps([{k: v for k, v in asdict(c).items() if k != "envelope"} for c in cards]))
        return
    for c in cards:
        tempo = f"{c.tempo_bpm:.4g} bpm" if c.tempo_bpm else "–"
        click.echo(f"{c.id}\t{c.name}\t{c.kind}\t{tempo}\t{c.key or '–'}\t{c.seconds:.2f} s\t{c.licence}")


@samples.command("add")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True))
def add(paths: tuple[Path, ...]) -> None:
    """Bring recordings in: files, or folders with all that lies in them. A bad file never stops the rest."""
    from escalera.services.samples import SUFFIXES

    files = [f for p in paths for f in (sorted(p.rglob("*")) if p.is_dir() else [p]) if f.is_file()]
    files = [f for f in files if f.suffix.lower() in SUFFIXES or f in paths]
    brought = known = 0
    with studio() as opened, progress("SampleReading") as tell:
        for number, file in enumerate(files):
            try:
                _, there = opened.samples.add_file(file)
                known, brought = known + there, brought + (not there)
            except (EscaleraError, OSError) as error:
                click.echo(f"escalera: {file.name}: {error}", err=True)
            tell((number + 1) / len(files))
    click.echo(f"{brought} brought in, {known} there already, {len(files) - brought - known} refused.")
    if files and not brought and not known:
        raise click.exceptions.Exit(2)


@click.command()
@click.argument("song")
@click.argument("audio", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option("--json", "as_json", is_flag=True)
def bounce(song: str, audio: Path, as_json: bool) -> None:
    """Lay a mix of SONG made elsewhere over its bars: where it lies, what is missing, and its energy section by section."""
    from escalera.services.bounces import bounce_report, read_bounce
    from escalera.sound.recording_files import library

    with studio() as opened, progress("Reading") as tell, tempfile.TemporaryDirectory(dir=opened.folder) as folder:
        kept = opened.samples.reader.read(audio, Path(folder))
        library.add_folder(Path(folder))
        try:
            document = song_from(song, opened)
            found = bounce_report(document, read_bounce(document, opened.rendering, kept.content, audio.name, tell))
        finally:
            library.remove_folder(Path(folder))
    if as_json:
        click.echo(json.dumps(found))
        return
    click.echo(f"offset {found['offset_s']:.3f} s, drift {found['drift_ppm']:+.0f} ppm")
    for what, bars in (("missing", found["missing_bars"]), ("added before", [x[0] for x in found["added_bars"]])):
        if bars:
            click.echo(f"{what} bars: {', '.join(str(b) for b in bars)}")
    for s in found["sections"]:
        heard = "not there" if s["bounce"] is None else f"{s['bounce']:.1f}, {s['integrated_lufs']:.1f} LUFS"
        click.echo(
            f"{s['name']}: wanted {s['target']:.1f}, from layers {s['arranged']:.1f}, sketch {s['sketch']:.1f}, mix {heard}"
        )


@click.command("study")
@click.argument("audio", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option("--json", "as_json", is_flag=True)
def study_track(audio: Path, as_json: bool) -> None:
    """Take a finished track apart: tempo, beats, key, chords, sections with bars, energy bar by bar."""
    from escalera.core.study.heard_track import Given
    from escalera.core.study.words import numerals
    from escalera.services.studies import study_report
    from escalera.sound.recording_files import library

    with studio() as opened, progress("Reading") as tell, tempfile.TemporaryDirectory(dir=opened.folder) as folder:
        kept = opened.samples.reader.read(audio, Path(folder))
        library.add_folder(Path(folder))
        try:
            reading = opened.studies.read_content(kept.content, audio.name, Given(), tell, lambda: True)
        finally:
            library.remove_folder(Path(folder))
    found = study_report(reading)
    if as_json:
        click.echo(json.dumps(found))
        return
    if found["tempo_bpm"] is not None:
        click.echo(
            f"{found['tempo_bpm']:.4g} bpm ({found['tempo_confidence']:.0%} sure), {found['metre']}, bar 1 at {found['first_downbeat_s']:.3f} s"
        )
    if found["key"] is not None:
        click.echo(f"{found['key']} ({found['key_confidence']:.0%} sure), tuned {found['tuning_cents']:+.0f} cents")
    for i, (s, section) in enumerate(zip(found["sections"], reading.sections)):
        loop = " ".join(numerals(reading, i))
        click.echo(
            f"bar {s['first_bar']}, {s['bars']} bars: {s['name']} ({section.role}), energy {reading.energy_of(i):.1f}, {loop}"
        )
    for line in found["said"]:
        click.echo(line)


@click.command("stems")
@click.argument("folder", type=click.Path(path_type=Path, exists=True))
@click.option("--tempo", type=float, default=0.0, help="beats a minute, where they are known")
def stems(folder: Path, tempo: float) -> None:
    """Lay the stems of FOLDER (or the channels of one file) as the layers of a new song; prints its id."""
    from escalera.services.stems import bring_in_stems, stem_files, title_of_kit

    with studio() as opened, progress("Reading") as tell:
        files = [(f, f.name) for f in stem_files(folder)]
        found = bring_in_stems(opened, files, title_of_kit(folder.name), tempo, tell)
    for line in found.said:
        click.echo(line, err=True)
    click.echo(found.song_id)


COMMANDS = (read, fit, samples, bounce, study_track, stems)

"""Commands of voices: words, sung."""

from __future__ import annotations

import json
from pathlib import Path

import click

from escalera.cli.common import song_from, studio
from escalera.core.edits.word_edits import checked_words
from escalera.core.words.lyric_lines import read_lyric, words_json
from escalera.core.words.spoken_words import ENGLISH, LANGUAGES


@click.command()
@click.argument("text")
@click.option("--language", type=click.Choice(list(LANGUAGES)), default=ENGLISH, show_default=True)
@click.option(
    "--json", "as_json", is_flag=True, help="Words with syllables and stress, lines with the letter of their rhyme."
)
def words(text: str, language: str, as_json: bool) -> None:
    """Syllables, stresses and rhymes of a TEXT, a line a line."""
    lines = read_lyric(checked_words(text.replace("\\n", "\n")), language)
    if as_json:
        click.echo(json.dumps({"lines": words_json(lines)}, ensure_ascii=False))
        return
    for line in lines:
        divided = " ".join(
            "-".join(s.upper() if d == "1" and len(w.syllables) > 1 else s for s, d in zip(w.syllables, w.stress))
            for w in line.words
        )
        click.echo(f"{line.syllables:>3}  {line.rhyme or '–'}  {divided}")


@click.command()
@click.argument("audio", type=click.Path(path_type=Path))
@click.option("--melody", default="", help="A song by id or file, whose melody it is held against.")
@click.option("--section", "section_name", default="", help="The section whose melody it sings.")
@click.option("--json", "as_json", is_flag=True)
def sung(audio: Path, melody: str, section_name: str, as_json: bool) -> None:
    """Notes of a single voice in an AUDIO file, and how late it comes against a melody."""
    from escalera.services.sung_reading import sung_report

    if melody:
        with studio() as opened:
            report = sung_report(audio, song_from(melody, opened), section_name)
    else:
        report = sung_report(audio)
    if as_json:
        click.echo(json.dumps(report))
        return
    for note in report["notes"]:
        click.echo(f"{note['start_s']:8.3f} {note['end_s']:8.3f}  {note['pitch']:3d} {note['cents']:+6.1f} cents")
    if report["late_ms"] is not None:
        click.echo(
            f"late by {report['late_ms']:.1f} ms" if report["late_ms"] >= 0 else f"early by {-report['late_ms']:.1f} ms"
        )


COMMANDS = (words, sung)

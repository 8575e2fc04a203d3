"""The command line. Long work shows progress on standard error; errors are one plain line and exit status 2."""

from __future__ import annotations

import gc
import sys

gc.disable()  # what is imported stays: looking through it for garbage takes a tenth of a start

import click
from pydantic import ValidationError

from escalera import __version__
from escalera.cli import file_commands as files
from escalera.cli import judging_commands as judging
from escalera.cli import planning_commands as planned
from escalera.cli import program_commands as program
from escalera.cli import reading_commands as readings
from escalera.cli import rhythm_commands as rhythm
from escalera.cli import sample_commands as recordings
from escalera.cli import task_commands as tasks
from escalera.cli import theory_commands as theory
from escalera.cli import voice_commands as voices
from escalera.errors import EscaleraError
from escalera.services.memory import collect_less_often

gc.enable()


class Plain(click.Group):
    """Turns the error tree, and files that cannot be opened, into one line."""

    def invoke(self, ctx: click.Context) -> object:
        try:
            return super().invoke(ctx)
        except EscaleraError as error:
            click.echo(f"escalera: {error}", err=True)
        except OSError as error:
            click.echo(
                f"escalera: {error.filename or 'file'}: {error.strerror or error}. Check the path and its rights.",
                err=True,
            )
        except ValidationError as error:
            first = error.errors()[0]
            click.echo(
                f"escalera: ESCALERA_{str(first['loc'][0]).upper()}: {first['msg'].lower()}, found "
                f"“{first['input']}”. Set it to another value.",
                err=True,
            )
        except MemoryError:
            click.echo("escalera: not enough memory for this. Close other programs, or render fewer bars.", err=True)
        sys.exit(2)


@click.group(cls=Plain, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__)
def main() -> None:
    """Escalera: build a track section by section.

    SONG is an id as `escalera songs` lists them; FILE is a project (.json) or MIDI (.mid) file.
    Data lies in ./var, or where ESCALERA_DATA says.
    """
    collect_less_often()


for module in (program, files, planned, readings, recordings, judging, theory, rhythm, voices, tasks):
    for command in module.COMMANDS:
        main.add_command(command)

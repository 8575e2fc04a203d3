"""What an empty shelf of the demo gets: two songs at once, the rest by a worker while they are heard already. What is there is never put there twice."""

from __future__ import annotations

import os
import subprocess
import sys
from contextlib import suppress
from typing import TYPE_CHECKING

from escalera.errors import InputError
from escalera.services.demo import seed_demo
from escalera.services.demo_recorded import seed_recorded
from escalera.services.demo_sung import seed_sung
from escalera.services.demo_year import seed_year
from escalera.services.job_kinds import MORE_DEMO
from escalera.services.logs import LOG

if TYPE_CHECKING:
    from escalera.services.jobs import Wanted
    from escalera.services.studio import Studio


def begin_demo(studio: Studio, with_year: bool) -> int:
    """Put the first songs on an empty shelf and let a worker make the others; how many there are. A shelf with songs is left as it is."""
    made = seed_demo(studio)
    if made:
        studio.jobs.start(MORE_DEMO, 0, 0, {"year": with_year}, "Putting more demo songs on the shelf")
    return len(made)


def put_all(studio: Studio, with_year: bool) -> int:
    """Put all demo songs on an empty shelf; how many there are."""
    made = seed_demo(studio)
    return len(made) + put_more(studio, with_year) if made else 0


def put_more_apart(studio: Studio, with_year: bool, wanted: Wanted) -> None:
    """`put_more` in a process of its own, so that neither its memory nor its time is that of a server. Raises InputError where it fails."""
    command = [sys.executable, "-m", "escalera.services.demo_shelf", *(["year"] if with_year else [])]
    env = os.environ | {"ESCALERA_DATA": str(studio.folder), "PYTHONPATH": os.pathsep.join(sys.path)}
    with subprocess.Popen(command, env=env, stderr=subprocess.PIPE, text=True) as process:
        while process.poll() is None:
            if not wanted():
                process.terminate()
            with suppress(subprocess.TimeoutExpired):
                process.wait(0.5)
        told = process.stderr.read() if process.stderr else ""
    if process.returncode > 0:
        LOG.error("the other demo songs could not be made: %s", told.strip())
        raise InputError(
            "The other demo songs could not be made; what went wrong is in the log. The songs on the shelf are whole."
        )


def put_more(studio: Studio, with_year: bool) -> int:
    """The other demo songs; how many were put on the shelf. What is there already is left as it is."""
    return seed_recorded(studio) + seed_sung(studio) + (seed_year(studio) if with_year else 0)


if __name__ == "__main__":
    from escalera.services.studio import Studio

    opened = Studio()
    try:
        put_more(opened, with_year="year" in sys.argv)
    finally:
        opened.close()

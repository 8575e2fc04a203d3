"""What an empty shelf of the demo gets: two songs at once, the rest by a worker while they are heard already. What is there is never put there twice."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from escalera.services.demo import seed_demo
from escalera.services.demo_recorded import seed_recorded
from escalera.services.demo_sung import seed_sung
from escalera.services.demo_year import seed_year
from escalera.services.job_kinds import MORE_DEMO

if TYPE_CHECKING:
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


def put_more(studio: Studio, with_year: bool, wanted: Callable[[], bool] = lambda: True) -> int:
    """The other demo songs, as long as they are wanted; how many were put on the shelf. What is there already is left as it is."""
    seeds = (seed_recorded, seed_sung, *((seed_year,) if with_year else ()))
    return sum(seed(studio) for seed in seeds if wanted())

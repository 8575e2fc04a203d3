"""What to do in the time there is: one song begun, or one finished, by steps that fit."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date

from escalera.core.document.work_state import WorkState
from escalera.core.planning.estimates import Estimate, estimate
from escalera.core.planning.open_steps import STEP_KINDS, OpenStep, lacking
from escalera.core.planning.stages import WORKED, StageStanding
from escalera.lazy_dataclasses import dataclass

START, FINISH = MODES = ("start", "finish")
MINUTES = (15, 30, 45, 60, 90)
STARTS_UNTIL = "arranged"  # a song that has not reached it is still being begun
SOON_DAYS = 14
MOST_A_SONG = 2  # steps of one song among the first that are shown


@dataclass(frozen=True, slots=True)
class SongChoice:
    """A song that one might go on with: where it stands, what lies open in it, when it is due next, and how many days it rests."""

    song_id: int
    title: str
    now: StageStanding
    steps: tuple[OpenStep, ...]
    due_on: date | None
    due_what: str
    rests_days: int


@dataclass(frozen=True, slots=True)
class StepOffer:
    """A step that is offered: of which song, how long it is likely to take, whether that fits, and why just this one."""

    song: SongChoice
    step: OpenStep
    size: Estimate
    fits: bool
    reason: str


def next_due(work: WorkState) -> tuple[date | None, str]:
    """The next thing that is due and not done, also when it is late."""
    waiting = sorted((d for d in work.due if not d.done), key=lambda d: d.on)
    return (waiting[0].on, waiting[0].what) if waiting else (None, "")


def offers(
    songs: Iterable[SongChoice], mode: str, minutes: int, took: Mapping[str, Sequence[float]], today: date
) -> list[StepOffer]:
    """Steps in the order in which they are worth doing. `took` holds, by kind, minutes that such steps took before.

    Finishing goes by what is nearest to its next stage, starting by what rests least long; what is due within two weeks comes
    first in both. Steps that fit the time come before longer ones, and no song fills the list.
    """
    sizes = {key: estimate(kind.usual_min, took.get(key, ())) for key, kind in STEP_KINDS.items()}
    rows = [s for s in songs if s.steps and not s.now.done and _begun(s) == (mode == START)]
    ranked = sorted(rows, key=lambda s: _rank(s, mode, today))
    made = [_offer(song, step, sizes, minutes, mode, today) for song in ranked for step in _first(song)]
    fitting, longer = [o for o in made if o.fits], [o for o in made if not o.fits]
    return _spread(fitting) + _spread(longer)


def _begun(song: SongChoice) -> bool:
    return song.now.stage in WORKED and WORKED.index(song.now.stage) < WORKED.index(STARTS_UNTIL)


def _rank(song: SongChoice, mode: str, today: date) -> tuple[object, ...]:
    days = (song.due_on - today).days if song.due_on is not None else 9999
    left = len(lacking(list(song.steps), song.now.next))
    if mode == START:
        return (days > SOON_DAYS, days if days <= SOON_DAYS else 0, song.rests_days, song.song_id)
    return (days > SOON_DAYS, days if days <= SOON_DAYS else 0, left, -WORKED.index(song.now.stage), song.song_id)


def _first(song: SongChoice) -> list[OpenStep]:
    """A song's steps: what was due, what its next stage lacks, what later ones will ask for, what earlier ones left open."""
    lacks, place = lacking(list(song.steps), song.now.next), WORKED.index(song.now.stage)
    due = [s for s in song.steps if not s.stage]
    later = [s for s in song.steps if s.stage and s not in lacks and WORKED.index(s.stage) > place]
    return [*due, *lacks, *later, *(s for s in song.steps if s.stage and WORKED.index(s.stage) <= place)]


def _offer(
    song: SongChoice, step: OpenStep, sizes: Mapping[str, Estimate], minutes: int, mode: str, today: date
) -> StepOffer:
    size = sizes[step.kind]
    return StepOffer(song, step, size, size.minutes <= minutes, _reason(song, step, mode, today))


def _reason(song: SongChoice, step: OpenStep, mode: str, today: date) -> str:
    if step.kind == "overdue":
        return ""
    if song.due_on is not None and (song.due_on - today).days <= SOON_DAYS:
        days = (song.due_on - today).days
        when = (
            f"{-days} days ago"
            if days < -1
            else {-1: "yesterday", 0: "today", 1: "tomorrow"}.get(days, f"in {days} days")
        )
        return f"{song.due_what} {'was' if days < 0 else 'is'} due {when}"
    lacks = lacking(list(song.steps), song.now.next)
    if step.kind == "stage":
        return "then it moves to its next shelf on the board"
    if step in lacks:
        return f"{'the last thing' if len(lacks) == 1 else f'one of {len(lacks)} things'} that “{song.now.next}” lacks"
    if step.stage and WORKED.index(step.stage) > WORKED.index(song.now.stage):
        return f"“{step.stage}” will ask for it" if step.pressing else "it would help, but no stage waits for it"
    return "left open when it was called " + song.now.stage


def _spread(rows: list[StepOffer]) -> list[StepOffer]:
    """At most MOST_A_SONG of one song, then the rest in the same order."""
    count: dict[int, int] = {}
    first, rest = list[StepOffer](), list[StepOffer]()
    for row in rows:
        count[row.song.song_id] = count.get(row.song.song_id, 0) + 1
        (first if count[row.song.song_id] <= MOST_A_SONG else rest).append(row)
    return first + rest

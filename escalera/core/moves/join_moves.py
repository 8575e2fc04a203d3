"""Moves at the join into a section: space before it, something that leads in, something that marks the one, one device varied."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.document.carriers import JoinDevice
from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import Edit
from escalera.core.edits.join_edits import AddDevice, NudgeDevice, RemoveDevice
from escalera.core.energy.join_reading import likeness, read_join, read_joins
from escalera.core.moves.move import KINDS, Move, apply_move, before_of, kind
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

ALIKE_ENOUGH = 0.5  # below which two joins need no varying
LEAD_IN = ("riser", "fill", "reversed-chord", "roll", "reversed-crash", "sweep-up")
MARK = ("crash", "impact", "sub-drop")
# what may stand for a device when a join is varied, the least alike first
INSTEAD: dict[str, tuple[str, ...]] = {
    "riser": ("reversed-chord", "filter-open", "reversed-crash"),
    "sweep-up": ("reversed-chord", "riser"),
    "roll": ("beat-out", "fill", "mute-pattern"),
    "fill": ("breath", "turnaround", "pickup"),
    "crash": ("impact", "sub-drop"),
    "impact": ("crash", "sub-drop"),
    "gap": ("beat-out", "breath", "held-chord"),
    "filter-open": ("sweep-up", "reversed-chord"),
    "reversed-crash": ("shout", "reversed-chord"),
    "reversed-chord": ("riser", "reversed-crash"),
    "breath": ("gap", "beat-out"),
}


def _free(section: Section, kinds: tuple[str, ...]) -> list[str]:
    there = {d.kind for d in section.devices if not d.parked}
    return [k for k in kinds if k not in there]


@kind("gap before", "Space before it", "A beat of silence, or a breath, makes the one after it larger.", room=True)
def gap_before(song: Song, section: Section) -> Iterator[Move]:
    if before_of(song, section) is None or any(
        d.kind in ("gap", "breath", "stop") and not d.parked for d in section.devices
    ):
        return
    for key in ("gap", "breath"):
        yield Move(
            f"gap before:{key}",
            f"A {JOIN_KINDS[key].label.lower()} before {section.name}",
            (AddDevice(section.id, key),),
        )


@kind(
    "lead in",
    "Something that leads in",
    "A riser, a fill, a chord backwards: the ear is told that something comes.",
    room=True,
)
def lead_in(song: Song, section: Section) -> Iterator[Move]:
    if before_of(song, section) is not None:
        for key in _free(section, LEAD_IN):
            yield Move(f"lead in:{key}", f"{JOIN_KINDS[key].label} into {section.name}", (AddDevice(section.id, key),))


@kind(
    "mark the one",
    "Something that marks the one",
    "A blow, a cymbal or a falling sine says where the section begins.",
    room=True,
)
def mark_the_one(song: Song, section: Section) -> Iterator[Move]:
    if before_of(song, section) is not None:
        for key in _free(section, MARK):
            yield Move(
                f"mark the one:{key}",
                f"{JOIN_KINDS[key].label} on the one of {section.name}",
                (AddDevice(section.id, key),),
            )


@kind(
    "vary the join",
    "Vary what carries it",
    "One device exchanged or shortened, so that the second time is not the first.",
    room=True,
)
def vary_the_join(song: Song, section: Section) -> Iterator[Move]:
    if before_of(song, section) is None:
        return
    there = {d.kind for d in section.devices}
    for device in (d for d in section.devices if not d.parked):
        for key in INSTEAD.get(device.kind, ()):
            if key not in there:
                edits: tuple[Edit, ...] = (RemoveDevice(section.id, device.id), AddDevice(section.id, key))
                yield Move(
                    f"vary the join:{device.id}:{key}",
                    f"{JOIN_KINDS[key].label} instead of {device.of.label.lower()}",
                    edits,
                )
        yield from _shorter(song, section, device)
        if len(there) > 1:
            yield Move(
                f"vary the join:{device.id}:out",
                f"Without the {device.of.label.lower()}",
                (RemoveDevice(section.id, device.id),),
            )
    yield from _found(song, section)


def _shorter(song: Song, section: Section, device: JoinDevice) -> Iterator[Move]:
    half = device.length_ticks // 2
    if device.end_ticks <= 0 and half >= 240:
        edge = NudgeDevice(section.id, device.id, device.length_ticks - half, "start")
        yield Move(f"vary the join:{device.id}:half", f"{device.of.label} half as long", (edge,))


def _found(song: Song, section: Section) -> Iterator[Move]:
    """Where nothing was placed yet, what the patterns bring is varied by adding to it."""
    if not any(not d.parked for d in section.devices):
        for key in ("breath", "reversed-chord", "shout", "beat-out"):
            yield Move(f"vary the join:0:{key}", f"{JOIN_KINDS[key].label} added", (AddDevice(section.id, key),))


@dataclass(frozen=True, slots=True)
class JoinVariation:
    """A way to vary a join: the move, how alike it is to its nearest other join now and then, and why one would."""

    move: Move
    before: float
    after: float
    why: str


def nearest_join(song: Song, index: int) -> tuple[int, float] | None:
    """The other join that is carried most alike, by its section's place, and how alike; None where nothing else is carried."""
    mine = read_join(song, index)
    others = [r for r in read_joins(song) if r.index != index and r.carriers]
    if not mine.carriers or not others:
        return None
    found = max(others, key=lambda r: likeness(mine.carriers, r.carriers, mine.beat_ticks))
    return found.index, likeness(mine.carriers, found.carriers, mine.beat_ticks)


def join_variations(song: Song, index: int, count: int = 4) -> list[JoinVariation]:
    """Moves that make a join less like the one that is carried most alike, the least alike first."""
    near = nearest_join(song, index)
    if near is None or near[1] < ALIKE_ENOUGH:
        return []
    section, other = song.sections[index], read_join(song, near[0])
    found = []
    for move in KINDS["vary the join"](song, section):
        try:
            after = apply_move(song, move)
        except EditError:
            continue
        then = likeness(read_join(after, index).carriers, other.carriers, other.beat_ticks)
        if then < near[1] - 0.02:
            found.append(
                JoinVariation(move, near[1], then, f"{other.right.section.name} was entered like this before.")
            )
    return sorted(found, key=lambda v: v.after)[:count]

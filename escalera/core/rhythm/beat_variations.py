"""Variations of a beat that keep its feel: what a drummer would do for the next section. A row each in VARIATIONS.

Each takes a beat and gives another of the same length; the anchors of the feel (`measures.anchors`) stay where the row says
so. Order of coming and going follows the role of a drum, not one grid: kicks go from weak places first, hats from the places
between beats, snares stay on the backbeat and only ghost elsewhere.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from escalera.core.rhythm.beat import BACKBEAT, CYMBALS, Beat, Hit, tiled
from escalera.core.rhythm.measures import SIXTEENTH, anchors, strength
from escalera.core.rhythm.performance import playable
from escalera.lazy_dataclasses import dataclass

GHOST = 42
LOUD = 80  # strokes below it are ghosts
Vary = Callable[[Beat], Beat]


@dataclass(frozen=True, slots=True)
class BeatVariation:
    key: str
    label: str
    said: str
    make: Vary
    keeps_anchors: bool = True
    once: bool = False  # it is meant once where the beat plays, not in every round of a short one


VARIATIONS: dict[str, BeatVariation] = {}


def variation(
    key: str, label: str, said: str, keeps_anchors: bool = True, once: bool = False
) -> Callable[[Vary], Vary]:
    """Register a function as a variation of beats; `keeps_anchors` promises that what carries the beat stays."""

    def register(make: Vary) -> Vary:
        VARIATIONS[key] = BeatVariation(key, label, said, make, keeps_anchors, once)
        return make

    return register


def vary(played: Beat, key: str) -> Beat:
    """A variation by its key."""
    return VARIATIONS[key].make(played)


def _lead(played: Beat) -> str:
    """The cymbal that keeps time: the one hit most often."""
    counts = {d: len(played.of(d)) for d in CYMBALS if played.of(d)}
    return max(counts, key=lambda d: counts[d]) if counts else "closed hat"


def _grid(played: Beat) -> int:
    """The step of the beat: a triplet eighth where it is felt in threes, else a sixteenth."""
    beat_ticks = played.metre.beat_ticks
    thirds = sum(h.tick % beat_ticks in (beat_ticks // 3, 2 * beat_ticks // 3) for h in played.hits)
    quarters = sum(h.tick % SIXTEENTH == 0 and strength(h.tick, played) in (1, 2) for h in played.hits)
    return beat_ticks // 3 if thirds > quarters else SIXTEENTH


@variation("busier", "Busier", "fills the time-keeping, then adds a kick that leads into the strong beats")
def busier(played: Beat) -> Beat:
    lead, step = _lead(played), _grid(played)
    now = len(played.of(lead))
    eighth = step if step != SIXTEENTH else 2 * SIXTEENTH
    wanted = eighth if now * eighth < 0.95 * played.length_ticks else step
    ticks = range(0, played.length_ticks, wanted)
    hits = [
        Hit(t, lead, 72 if strength(t, played) >= 3 else 58)
        for t in ticks
        if (lead, t) not in played.at and not _taken(played, t)
    ]
    for bar in range(0, played.length_ticks, played.metre.bar_ticks):
        for beat_at in range(
            bar + 2 * played.metre.beat_ticks, bar + played.metre.bar_ticks, 2 * played.metre.beat_ticks
        ):
            if ("kick", beat_at - wanted) not in played.at and ("kick", beat_at) in played.at:
                hits.append(Hit(beat_at - wanted, "kick", 78))
    if not hits:  # everything keeps time already: the kick answers off the beat
        free = [
            t
            for t in range(step, played.length_ticks, step)
            if strength(t, played) == 2 and ("kick", t) not in played.at
        ]
        hits = [Hit(t, "kick", 74) for t in free[1::2] or free[:1]]
    return playable(played.with_hits((*played.hits, *hits)))


def _taken(played: Beat, tick: int) -> bool:
    """Whether an open cymbal or a crash already keeps time there."""
    return any((d, tick) in played.at for d in ("open hat", "crash", *CYMBALS))


@variation("sparser", "Sparser", "lets go of what lies between the beats, softest first; the feel's own hits stay")
def sparser(played: Beat) -> Beat:
    kept = anchors(played)
    loose = [h for h in played.hits if (h.drum, h.tick) not in kept]
    loose.sort(key=lambda h: (strength(h.tick, played), h.velocity, -h.tick))
    gone = set(loose[: max(1, round(len(loose) * 0.5))]) if loose else set()
    return played.with_hits(h for h in played.hits if h not in gone)


@variation("lead-ride", "Lead on the ride", "what kept time on the hat moves to the ride")
def lead_ride(played: Beat) -> Beat:
    lead = _lead(played)
    other = "ride" if lead != "ride" else "closed hat"
    return played.with_hits(replace(h, drum=other) if h.drum == lead else h for h in played.hits)


@variation("crash-one", "Crash on the one", "a crash with the first kick, in the hand that kept time", once=True)
def crash_one(played: Beat) -> Beat:
    return playable(played.with_hits((*played.hits, Hit(0, "crash", 110))))


@variation("ghosts", "Ghost notes", "soft snares around the backbeat, where the hand is free")
def ghosts(played: Beat) -> Beat:
    drum, step = (
        ("snare" if played.of("snare") or not played.of(*BACKBEAT) else played.of(*BACKBEAT)[0].drum),
        _grid(played),
    )
    loud = [h.tick for h in played.of(*BACKBEAT) if h.velocity >= 85]
    places = {(t + d) % played.length_ticks for t in loud for d in (-step, step)}
    places |= {(t + 3 * step) % played.length_ticks for t in loud}
    kicks = {h.tick for h in played.of("kick")}
    free = [t for t in places if t not in kicks and not any((b, t) in played.at for b in BACKBEAT)]
    return played.with_hits((*played.hits, *(Hit(t, drum, GHOST) for t in free)))


@variation("half-time", "Half time", "the same length felt half as fast: one backbeat a bar, on its middle", False)
def half_time(played: Beat) -> Beat:
    slow = [
        replace(h, tick=2 * h.tick)
        for h in played.hits
        if h.drum not in CYMBALS and 0 <= 2 * h.tick < played.length_ticks
    ]
    return playable(played.with_hits((*slow, *played.of(*CYMBALS))))


@variation("double-time", "Double time", "the same length felt twice as fast: the backbeat on every off-beat", False)
def double_time(played: Beat) -> Beat:
    half = played.length_ticks // 2
    fast = [replace(h, tick=h.tick // 2 + shift) for h in played.hits for shift in (0, half) if h.tick >= 0]
    return playable(played.with_hits(fast))


@variation(
    "every-fourth", "Every fourth snare other", "the last backbeat of four is doubled by a clap, or answers with a rim"
)
def every_fourth(played: Beat) -> Beat:
    backbeats = sorted(h.tick for h in played.of("snare", "clap") if h.velocity >= 85)
    if not backbeats:
        return played
    last = backbeats[-1] if len(set(backbeats)) < 4 else sorted(set(backbeats))[3::4][-1]
    drum = "clap" if ("clap", last) not in played.at else "rim"
    return playable(
        played.with_hits(
            (*(h for h in played.hits if not (h.tick == last and h.drum in CYMBALS)), Hit(last, drum, 104))
        )
    )


@variation("open-up", "Hats open", "the off-beat hats open")
def open_up(played: Beat) -> Beat:
    def opened(h: Hit) -> Hit:
        return (
            replace(h, drum="open hat", velocity=min(127, h.velocity + 8))
            if h.drum == "closed hat" and strength(h.tick, played) == 2
            else h
        )

    return played.with_hits(opened(h) for h in played.hits)


@variation(
    "cut-short", "Hits cut short", "the hand closes on what rings: open hats and crashes are stopped half a beat later"
)
def cut_short(played: Beat) -> Beat:
    step = 2 * SIXTEENTH if _grid(played) == SIXTEENTH else _grid(played)
    ringing = [h for h in played.hits if h.drum in ("open hat", "crash")] or [
        replace(h, tick=h.tick - step) for h in played.of("ride")
    ]
    stops = {(h.tick + step) % played.length_ticks for h in ringing}
    return playable(
        played.with_hits((*played.hits, *(Hit(t, "closed hat", 50) for t in stops if not _taken(played, t))))
    )


@variation("no-kick", "Kick out", "everything but the kick, so that it can come back", False)
def no_kick(played: Beat) -> Beat:
    return played.with_hits(h for h in played.hits if h.drum != "kick")


@variation("only-kick", "Only the kick", "the kick by itself", False)
def only_kick(played: Beat) -> Beat:
    return played.with_hits(played.of("kick"))


@variation("lead-in", "Leads in", "snares on the last half beat, rising into the next bar")
def lead_in(played: Beat) -> Beat:
    step, end = _grid(played), played.length_ticks
    start = end - (played.metre.beat_ticks if step == SIXTEENTH else 2 * step)
    ticks = list(range(start, end, step))
    added = [
        Hit(t, "snare", 70 + 40 * (i + 1) // len(ticks)) for i, t in enumerate(ticks) if ("snare", t) not in played.at
    ]
    return playable(played.with_hits((*played.hits, *added)))


def over_last_bar(played: Beat, fill: Beat, length_ticks: int) -> Beat:
    """The last bar of a phrase of `length_ticks` with a fill played over it; nothing of the beat gives way but what two hands cannot play."""
    bar = played.metre.bar_ticks
    length, start = min(length_ticks, 16 * bar), max(0, min(length_ticks, 16 * bar) - bar)
    last = [replace(h, tick=h.tick - start) for h in tiled(played, length).hits if h.tick >= start]
    moved = [replace(h, tick=h.tick + bar - min(fill.length_ticks, bar)) for h in fill.hits]
    return playable(replace(played, length_ticks=bar, hits=()).with_hits((*last, *(h for h in moved if h.tick < bar))))


def as_loud(fill: Beat, played: Beat) -> Beat:
    """A fill whose strokes are as loud on average as the loud strokes of a beat; as it is beside silence."""
    loud = [h.velocity for h in played.hits if h.velocity >= LOUD]
    if not loud or not fill.hits:
        return fill
    share = (sum(loud) / len(loud)) / (sum(h.velocity for h in fill.hits) / len(fill.hits))
    return fill.with_hits(replace(h, velocity=max(1, min(127, round(h.velocity * share)))) for h in fill.hits)


def with_fill(played: Beat, fill: Beat, every_bars: int) -> Beat:
    """The beat over `every_bars`, its last bar giving way to a fill where the fill plays; before it the beat goes on."""
    bar = played.metre.bar_ticks
    length = every_bars * bar
    start = length - min(fill.length_ticks, length)
    begins = start + min((h.tick for h in fill.hits), default=0) // played.metre.beat_ticks * played.metre.beat_ticks
    kept = [h for h in tiled(played, length).hits if h.tick < begins]
    return replace(tiled(played, length), hits=()).with_hits(
        (*kept, *(replace(h, tick=h.tick + start) for h in fill.hits))
    )

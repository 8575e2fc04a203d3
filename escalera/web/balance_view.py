"""What the page of balance shows: the house of a section, what hides what, remedies, places, levels, rooms, a rough mix."""

from __future__ import annotations

from functools import cached_property

from escalera.core.balance.balance_checks import HEARD_CHECKS, HeardFacts, heard_judged, heard_mends
from escalera.core.balance.loudness_plan import LoudnessStep, loudness_steps
from escalera.core.balance.masking import Hiding
from escalera.core.balance.pairs import SidePair, side_pairs
from escalera.core.balance.remedies import Unmasking, pair_of, remedies
from escalera.core.balance.rough_mix import RoughStep, lead_rides, rough_mix
from escalera.core.balance.section_heard import NOT_HEARD, HeardSection, LayerHeard, Loud, correlation_by_floor
from escalera.core.balance.space import EchoClash, PreDelay, echo_clashes, pre_delays
from escalera.core.balance.thirds import FLOORS, Floats, hertz
from escalera.core.bench.low_end import low_end
from escalera.core.checks import facts_text
from escalera.core.checks.check import Finding
from escalera.core.document.song import Section
from escalera.core.moves.move import Move, moves_for
from escalera.core.reading.section_harmony import section_key
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass
from escalera.services.balance import Progress
from escalera.services.comparing import BothBeside
from escalera.store.repository import Head
from escalera.web.balance_drawing import (
    Floor,
    OwnerBar,
    Spot,
    course,
    family_slug,
    house,
    owners,
    places,
    street,
    width_rows,
)
from escalera.web.page_view import PhraseView
from escalera.web.song_view import Selection

SHOWN = (
    ("floors", "Floors"),
    ("places", "Places"),
    ("rooms", "Rooms"),
    ("levels", "Levels"),
    ("compare", "Compare"),
    ("rough", "Rough mix"),
)
HIDINGS, FINDINGS = 7, 12


@dataclass(frozen=True)
class HeardRow:
    """A layer in the list of what is heard."""

    layer: LayerHeard
    share: float
    said: str

    @property
    def family(self) -> str:
        return family_slug(self.layer.family)


@dataclass(frozen=True)
class FoundRow:
    """A finding with its title, reason, what an acceptance keeps of it, and changes that mend it: (key, label)."""

    finding: Finding
    title: str
    reason: str
    facts: str
    mends: list[tuple[str, str]]


@dataclass(frozen=True)
class LevelRow:
    section: Section
    loud: Loud
    step: LoudnessStep


class BalanceView(PhraseView):
    """All that the templates ask for. `heard` is None while the section is not listened to yet."""

    def __init__(
        self, head: Head, select: str, heard: HeardSection | None, shown: str, pair: str, layer: int, against: str
    ):
        super().__init__(head, select)
        self.selection = Selection("section", self.section.id)
        self.heard, self.against = heard, against
        self.shown = shown if shown in dict(SHOWN) else SHOWN[0][0]
        self.outline: Floats | None = None
        self.outline_said = ""
        self.levels: list[Loud] | None = None
        self.both: BothBeside | None = None
        self.trouble = ""
        self._pair, self._layer = pair, layer

    # the house ------------------------------------------------------------------------------------------------------

    @cached_property
    def chosen(self) -> LayerHeard | None:
        """The layer that is looked at."""
        found = self.heard.layer(self._layer) if self.heard else None
        return found if found is not None and not found.silent else None

    def floors(self) -> list[Floor]:
        return house(self.heard, self.outline) if self.heard else []

    def street(self) -> list[tuple[str, str, float, float]]:
        return street(self.heard) if self.heard else []

    def owners(self) -> list[OwnerBar]:
        return owners(self.song, self.heard, self.span.bar_ticks, self.span.length_ticks) if self.heard else []

    def low_said(self) -> list[str]:
        """The low end in words."""
        if self.heard is None:
            return []
        low, names = self.heard.low, {x.id: x.name for x in self.heard.layers}
        found = [f"{names[i]} owns {100 * share:.0f} %" for i, share in list(low.shares().items())[:3]]
        if low.sum_db is not None:
            word = (
                "help each other" if low.sum_db > 1.0 else "cancel" if low.sum_db < -1.0 else "neither help nor cancel"
            )
            figure = f" ({low.sum_db:+.1f} dB where they meet)".replace("-", "−")
            found.append(f"{names[low.kick_id]} and {names[low.bass_id]} {word}{figure}")
        found.append(low_end(self.song, self.span).said)
        if low.varies_db is not None:
            found.append(f"{names[low.bass_id]} goes up and down by {low.varies_db:.0f} dB")
        return found

    def low_ends(self) -> str:
        """Where the song's lowest octaves are first and last owned by anybody."""
        owned = [
            span.first_bar + span.bar_of(step.tick)
            for span in self.spans
            for step in low_end(self.song, span).steps
            if step.owner
        ]
        if not owned:
            return "Nothing owns the lowest octaves anywhere in the song."
        return f"In the song the lowest octaves are owned from bar {owned[0]} to bar {owned[-1]}."

    # what hides what ------------------------------------------------------------------------------------------------

    def hidings(self) -> list[tuple[Hiding, str, str, str]]:
        """(what hides what, name of the hidden one, name of the other, where), those of the chosen layer where one is chosen."""
        if self.heard is None:
            return []
        names = {x.id: x.name for x in self.heard.layers}
        rows = [
            h for h in self.heard.hidings if self._rivals(h) and (not self.chosen or self.chosen.id in (h.masked, h.by))
        ]
        return [(h, names[h.masked], names[h.by], hertz(h.band)) for h in rows[:HIDINGS]]

    def _rivals(self, hiding: Hiding) -> bool:
        """Doubles and layers of one group are no rivals, and an effect passes by."""
        a, b = (self.song.layer_by_id[i] for i in (hiding.masked, hiding.by))
        if a.group and a.group == b.group or a.voice and b.voice:
            return False
        return a.family != "effects"

    @cached_property
    def pair(self) -> Hiding | None:
        """The pair that is looked at: masked:by."""
        masked, _, by = self._pair.partition(":")
        if self.heard is None or not (masked.isdecimal() and by.isdecimal()):
            return None
        return next((h for h in self.heard.hidings if (h.masked, h.by) == (int(masked), int(by))), None)

    def hidden_bars(self) -> list[tuple[int, float]]:
        """(bar, share) of what the chosen pair's one hides of the other, bar by bar."""
        if self.heard is None or self.pair is None:
            return []
        slots = self.heard.hearing.hidden_by_slot(self.pair.masked, self.pair.by)
        edges = [int(s / self.heard.total.slot_s) for s in (self.span.seconds_at(t) for t in self.span.bar_ticks)]
        return [
            (self.span.first_bar + i, float(slots[a : max(a + 1, b)].max(initial=0.0)))
            for i, (a, b) in enumerate(zip(edges, edges[1:]))
        ]

    def worst_bars(self) -> str:
        """Where the pair's one hides most of the other."""
        rows = self.hidden_bars()
        most = max((share for _, share in rows), default=0.0)
        bars = [bar for bar, share in rows if share > 0.8 * most]
        if not bars or len(bars) > 0.8 * len(rows):
            return "throughout"
        return f"most in bar{'s' if len(bars) > 1 else ''} {', '.join(map(str, bars[:6]))}"

    def broken(self) -> list[str]:
        """Layers whose sound holds what is no number."""
        return [x.name for x in self.heard.layers if x.broken] if self.heard else []

    def mix_moves(self) -> list[Move]:
        """Moves that make this section narrower or wider, one of each for a single layer and for all."""
        found = list(moves_for(self.song, self.section, ("narrow", "widen")))
        whole = [m for m in found if m.key.endswith((":all", ":sides"))]
        return (whole or found)[:3]

    def name(self, layer_id: int) -> str:
        return self.song.layer_by_id[layer_id].name

    def remedies(self) -> list[Unmasking]:
        if self.heard is None or self.pair is None:
            return []
        try:
            return remedies(pair_of(self.song, self.heard, self.pair.masked, self.pair.by))
        except EditError:
            return []

    def pair_hz(self) -> str:
        return hertz(self.pair.band) if self.pair else ""

    @cached_property
    def shares(self) -> list[HeardRow]:
        """Every layer with what is heard of it, the most first."""
        if self.heard is None:
            return []
        rows = [(x, self.heard.hearing.shares[x.id]) for x in self.heard.sounding]
        return [
            HeardRow(x, share, "not heard" if share < NOT_HEARD else "")
            for x, share in sorted(rows, key=lambda r: -r[1])
        ]

    def unheard(self) -> str:
        """Layers that are not heard, by name."""
        names = [row.layer.name for row in self.shares if row.said]
        return ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")

    # places, rooms --------------------------------------------------------------------------------------------------

    def spots(self) -> list[Spot]:
        return places(self.heard) if self.heard else []

    def widths(self) -> list[tuple[str, float, float, float]]:
        return width_rows(self.heard) if self.heard else []

    def width_by_floor(self) -> list[tuple[str, float]]:
        return list(zip(FLOORS, correlation_by_floor(self.heard.total).tolist())) if self.heard else []

    def pairs(self) -> list[SidePair]:
        return side_pairs(self.song, self.heard) if self.heard else []

    def clashes(self) -> list[tuple[EchoClash, str, str]]:
        """Echoes that clash, with the bar and the note's name."""
        key = section_key(self.song, self.section)
        return [(c, self._bar_beat(c.tick), key.pitch_name(c.pitch)) for c in echo_clashes(self.song, self.span)]

    def _bar_beat(self, tick: int) -> str:
        bar = self.span.bar_of(tick)
        beat = 1 + (tick - self.span.bar_ticks[bar]) // self.span.bar_metres[bar].beat_ticks
        return f"{self.span.first_bar + bar}.{beat}"

    def pre_delays(self) -> list[PreDelay]:
        return pre_delays(self.song, self.span)

    def covered(self) -> list[tuple[LayerHeard, float]]:
        return self.heard.covered() if self.heard else []

    # levels ---------------------------------------------------------------------------------------------------------

    def level_rows(self) -> list[LevelRow]:
        if self.levels is None:
            return []
        roles = [s.role for s in self.song.sections]
        steps = loudness_steps(self.song.school, roles, [x.integrated_lufs for x in self.levels])
        return [LevelRow(s, x, step) for s, x, step in zip(self.song.sections, self.levels, steps)]

    def course(self) -> tuple[list[str], list[float]]:
        return course([x.short_lufs for x in self.levels or []])

    # rough mix ------------------------------------------------------------------------------------------------------

    @cached_property
    def rough(self) -> list[RoughStep]:
        return rough_mix(self.song, self.heard)

    def leads(self) -> list[tuple[int, str]]:
        """Layers that could be ridden: those that lead."""
        facts = HeardFacts(self.song, [])
        return [(i, self.name(i)) for i in sorted(facts.leading)]


class FoundView:
    """What the rules about balance find in the sections that were heard so far."""

    def __init__(self, head: Head, progress: Progress, outline: Floats | None = None):
        self.head, self.song, self.progress = head, head.song, progress
        self.facts = HeardFacts(head.song, progress.sections, outline)

    @cached_property
    def judged(self) -> tuple[list[FoundRow], list[tuple[Finding, str]]]:
        """Open findings, and accepted ones with their reasons."""
        found = heard_judged(self.facts)
        return [self._row(f) for f in found.open[:FINDINGS]], list(found.accepted)

    def _row(self, finding: Finding) -> FoundRow:
        check = HEARD_CHECKS[finding.check]
        mends = [(c.key, c.label) for c in heard_mends(self.facts, finding)[:4]]
        return FoundRow(finding, check.title, check.reason, facts_text(finding), mends)

    def rides(self, layer_id: int) -> list[RoughStep]:
        return lead_rides(self.song, self.progress.sections, layer_id)


__all__ = ["SHOWN", "BalanceView", "FoundView"]

"""Balance for the pages: what is heard of sections, what would help, what is tried for the ear only."""

from __future__ import annotations

import time
from collections.abc import Mapping

from escalera.core.balance.balance_checks import HeardFacts, finding_of, heard_mends
from escalera.core.balance.masking import Hiding
from escalera.core.balance.remedies import Candidate, Unmasking, find_remedy, pair_of, remedies, with_candidate
from escalera.core.balance.rough_mix import RoughStep, lead_rides, rough_mix
from escalera.core.balance.section_heard import HeardSection, Loud
from escalera.core.document.song import Song
from escalera.core.edits.edit import Edit, id_in, layer_of, section_of, whole_number
from escalera.core.edits.protection import keep_protected
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, EscaleraError, InputError
from escalera.lazy_dataclasses import dataclass
from escalera.services.rendering import Rendering
from escalera.services.section_hearing import heard_key, loud_of, section_heard
from escalera.sound.content import content_key
from escalera.sound.schedule import RATE_HZ

AT_ONCE_S = 1.2  # for so long sections are listened to before a page is answered; the rest is asked for again
MOST_STEPS = 300
UNMASK, ROUGH, MEND, RIDE = "unmask", "rough_mix", "mend_heard", "ride"


@dataclass(frozen=True, eq=False)
class Progress:
    """Sections that were heard so far, in the song's order, and how many there are."""

    sections: list[HeardSection]
    of: int

    @property
    def whole(self) -> bool:
        return len(self.sections) == self.of


def known(rendering: Rendering, song: Song, section_id: int) -> bool:
    """Whether a section was heard already, so that its figures are there at once."""
    line = timeline(song)
    index = line.spans.index(line.span_of(section_of(song, section_id).id))
    return heard_key(rendering, song, index) in rendering.renderer.cache


def heard_so_far(rendering: Rendering, song: Song, seconds: float = AT_ONCE_S) -> Progress:
    """All sections that are known, and as many more as can be heard in a while: at least one, or none for 0 seconds."""
    begun, found, made = time.perf_counter(), [], 0
    for section in song.sections:
        there = known(rendering, song, section.id)
        if there or seconds and (not made or time.perf_counter() - begun < seconds):
            found.append(section_heard(rendering, song, section.id))
            made += not there
    return Progress(found, len(song.sections))


def all_heard(rendering: Rendering, song: Song) -> list[HeardSection]:
    """Every section, however long it takes."""
    return [section_heard(rendering, song, s.id) for s in song.sections]


def levels_of(rendering: Rendering, song: Song) -> list[Loud]:
    """Levels of every section, which need its sum and no layers."""
    line, renderer = timeline(song), rendering.renderer
    keys, starts = renderer.chunk_keys(song, line), line.samples(RATE_HZ)

    def one(index: int) -> Loud:
        low, high = starts[index : index + 2]
        before = renderer.before_master(song, line, low, high)
        return loud_of(before, renderer.chunk(song, line, index, keys[index])[:, : high - low])

    return [rendering.kept(content_key("loud", key), lambda i=i: one(i)) for i, key in enumerate(keys)]  # type: ignore[misc]


BARELY = 0.35  # of a layer: what is heard of it below that is little


@dataclass(frozen=True, eq=False)
class LayerShare:
    """How much of a layer is heard in a section, who hides most of it (None for nobody), and the smallest changes that bring it forward."""

    share: float
    hiding: Hiding | None
    remedies: tuple[Unmasking, ...]

    @property
    def barely(self) -> bool:
        return self.share < BARELY


def share_of(rendering: Rendering, song: Song, section_id: int, layer_id: int, helps: bool = True) -> LayerShare | None:
    """What is heard of a layer in a section; None where it is silent there. Remedies, which take their time, only where `helps` are
    wanted. Raises EditError where section or layer is gone."""
    section, layer = section_of(song, section_id), layer_of(song, layer_id)
    heard = section_heard(rendering, song, section.id)
    share = heard.hearing.shares.get(layer.id)
    if share is None:
        return None
    hiding = max((h for h in heard.hidings if h.masked == layer.id), key=lambda h: h.share, default=None)
    found = remedies(pair_of(song, heard, hiding.masked, hiding.by), 2) if helps and hiding and share < BARELY else []
    return LayerShare(share, hiding, tuple(found))


# what may be tried, by its words -------------------------------------------------------------------------------------------------


def candidate_of(rendering: Rendering, song: Song, fields: Mapping[str, str]) -> Candidate:
    """The remedy that fields name: section_id, masked, by, remedy. Raises EditError where it does not apply any more."""
    section = section_of(song, whole_number(fields.get("section_id"), "section"))
    heard = section_heard(rendering, song, section.id)
    masked, by = (whole_number(fields.get(name), "layer") for name in ("masked", "by"))
    return find_remedy(song, heard, masked, by, fields.get("remedy", ""))


def steps_of(rendering: Rendering, song: Song, fields: Mapping[str, str], steps: list[RoughStep]) -> list[RoughStep]:
    """Those of the steps that fields name by their keys, all where they name none. Raises EditError where none is left."""
    wanted = [key for key in fields.get("only", "").split(",") if key][:MOST_STEPS]
    found = [s for s in steps if not wanted or s.key in wanted]
    if not found:
        raise EditError("Nothing of this is left to change: the mix stands like that already. Load the page again.")
    return found


def rough_steps(rendering: Rendering, song: Song, fields: Mapping[str, str]) -> list[RoughStep]:
    """What a rough mix would change."""
    section = song.section_by_id.get(id_in(fields.get("section_id", "")) or 0)
    heard = section_heard(rendering, song, section.id) if section is not None else None
    return rough_mix(song, heard)


def ride_steps(rendering: Rendering, song: Song, fields: Mapping[str, str]) -> list[RoughStep]:
    """What riding a layer through the song would change."""
    layer = layer_of(song, whole_number(fields.get("layer_id"), "layer"))
    return lead_rides(song, all_heard(rendering, song), layer.id)


def mend_of(rendering: Rendering, song: Song, fields: Mapping[str, str]) -> Candidate:
    """The change that fields name as a mend of a finding: finding, mend."""
    facts = HeardFacts(song, all_heard(rendering, song))
    for each in heard_mends(facts, finding_of(facts, fields.get("finding", ""))):
        if each.key == fields.get("mend", ""):
            return each
    raise EditError("This change does not mend it any more. The list shows what would now.")


def edits_of(rendering: Rendering, song: Song, kind: str, fields: Mapping[str, str]) -> tuple[tuple[Edit, ...], str]:
    """The edits of something that the page of balance proposes, and what they are called."""
    if kind in (UNMASK, MEND):
        found = (candidate_of if kind == UNMASK else mend_of)(rendering, song, fields)
        return found.edits, found.label
    all_steps = (rough_steps if kind == ROUGH else ride_steps)(rendering, song, fields)
    steps = steps_of(rendering, song, fields, all_steps)
    name = "Rough mix" if kind == ROUGH else f"{steps[0].layer.name} ridden through the song"
    return tuple(s.edit for s in steps), f"{name}: {len(steps)} change{'s' if len(steps) > 1 else ''}"


def tried(rendering: Rendering, song: Song, text: str) -> Song:
    """The song with something tried, for the ear only: 'unmask;section_id=3;masked=4;by=5;remedy=dip:3'. What does not apply any more is
    left out, so that what plays goes on."""
    kind, _, rest = text[:2000].partition(";")
    fields = dict(part.partition("=")[::2] for part in rest.split(";") if "=" in part)
    if kind not in (UNMASK, ROUGH, MEND, RIDE):
        return song
    try:
        after = song
        for edit in edits_of(rendering, song, kind, fields)[0]:
            after = edit.apply(after)
        return keep_protected(song, after)
    except EscaleraError:
        return song


@dataclass(frozen=True, slots=True)
class Measured:
    """What trying a remedy did, measured from the rendered sound, in percent points of what is heard of each."""

    masked_points: float
    by_points: float


def measured_remedy(rendering: Rendering, song: Song, fields: Mapping[str, str]) -> Measured:
    """A remedy made on a copy and listened to. Raises InputError where it does not apply."""
    found = candidate_of(rendering, song, fields)
    section_id, masked, by = (whole_number(fields.get(n)) for n in ("section_id", "masked", "by"))
    now = section_heard(rendering, song, section_id).hearing.shares
    after = section_heard(rendering, with_candidate(song, found), section_id).hearing.shares
    if masked not in now:
        raise InputError("This layer is silent here. Choose another one.")
    return Measured(100 * (after.get(masked, 0.0) - now[masked]), 100 * (after.get(by, 0.0) - now.get(by, 0.0)))

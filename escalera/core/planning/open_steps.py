"""What lies open in a song as steps that can be done: a kind a row, each asked for by a stage, each sized in minutes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import date

from escalera.core.checks.check import CHECKS, grouped, judged, some
from escalera.core.checks.song_status import undecided
from escalera.core.document.song import Song
from escalera.core.document.work_state import ARRANGED, LEFT, MASTERED, MIXED, RECORDED, RELEASED, DueDate
from escalera.core.feedback.disagreement import disagreements
from escalera.core.handing.readiness import not_ready
from escalera.core.planning.shares import shares_trouble
from escalera.core.planning.stages import WORKED, standing
from escalera.core.prompts.prompt_rules import judged_rules
from escalera.core.reading.brief import read_brief
from escalera.core.reading.rights import used_samples
from escalera.core.voices.voice_stack import missing_of
from escalera.errors import shown
from escalera.lazy_dataclasses import dataclass

MOST_FINDINGS, HEAVY = 4, 1.2  # causes of findings that are told; weight of one that a stage asks to be mended
MOST_OF_A_KIND = 6
MAX_STEP_KEY = 120
LOUDEST_DBTP = -1.0
SUNG_ROLES = ("verse", "pre-chorus", "chorus", "bridge")
AT_HANDING = ("names", "empty", "muted", "sent", "ending")  # points of readiness that are no step of another kind


@dataclass(frozen=True, slots=True)
class MixMade:
    """A mix of the song that was brought in: when, and what was measured of it (None where nothing was yet)."""

    on: date
    true_peak_dbtp: float | None = None
    integrated_lufs: float | None = None


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What is known of a song beside its document. `ideas` might fit it, `wanted` are sounds that were looked for and not found."""

    today: date
    began: date
    ideas: int = 0
    wanted: tuple[str, ...] = ()
    mixes: tuple[MixMade, ...] = ()


@dataclass(frozen=True, slots=True)
class OpenStep:
    """A step that can be done: what, why, and where. `opens` names the page or dialog that serves it; `key` names the step again."""

    kind: str
    said: str
    why: str
    opens: str = ""
    section_id: int = 0
    layer_id: int = 0
    about: str = ""  # what tells it from others of its kind at the same place

    @property
    def key(self) -> str:
        return f"{self.kind}:{self.section_id}:{self.layer_id}:{self.about}"[:MAX_STEP_KEY]

    @property
    def stage(self) -> str:
        return STEP_KINDS[self.kind].stage

    @property
    def pressing(self) -> bool:
        return STEP_KINDS[self.kind].pressing


Find = Callable[[Song, Surroundings], Iterator[OpenStep]]


@dataclass(frozen=True, slots=True)
class StepKind:
    """A kind of step: the stage that asks for it (empty for none), the minutes it usually takes, and how it is found."""

    key: str
    label: str
    stage: str
    usual_min: float
    find: Find
    pressing: bool


STEP_KINDS: dict[str, StepKind] = {}


def step_kind(key: str, label: str, stage: str, usual_min: float, pressing: bool = True) -> Callable[[Find], Find]:
    """Register a function as the finder of a kind; what is not pressing is offered, but a stage does not lack it."""

    def register(find: Find) -> Find:
        STEP_KINDS[key] = StepKind(key, label, stage, usual_min, find, pressing)
        return find

    return register


def open_steps(song: Song, around: Surroundings) -> list[OpenStep]:
    """All steps: kinds in the order of the stages, what is pressing first within each."""
    if song.work.marks and song.work.marks[-1].stage == LEFT:
        return []
    found = [step for kind in STEP_KINDS.values() for step in _some(kind, song, around)]
    order = {stage: place for place, stage in enumerate(WORKED)}
    return sorted(found, key=lambda s: (order.get(s.stage, 0), not s.pressing))


def _some(kind: StepKind, song: Song, around: Surroundings) -> list[OpenStep]:
    steps = []
    for step in kind.find(song, around):
        steps.append(step)
        if len(steps) == MOST_OF_A_KIND:
            break
    return steps


def lacking(steps: list[OpenStep], stage: str) -> list[OpenStep]:
    """What a song lacks of a stage: the pressing steps that it asks for. What earlier stages asked for was settled by calling it so."""
    return [s for s in steps if s.pressing and s.stage == stage] if stage else []


# arranging --------------------------------------------------------------------------------------------------------


def overdue_steps(due_dates: Sequence[DueDate], today: date) -> Iterator[OpenStep]:
    """Steps for what was due before a day and is not done."""
    for due in due_dates:
        if not due.done and due.on < today:
            yield OpenStep(
                "overdue",
                f"Overdue: {due.what}",
                f"it was due on {due.on}: do it, or move the date",
                "plan",
                about=due.what,
            )


@step_kind("overdue", "What was due", "", 30)
def _overdue(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    return overdue_steps(song.work.due, around.today)


@step_kind("stage", "Say that a stage is reached", "", 5)
def _stage(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    """Where nothing is lacking that can be seen, the stage can be called reached."""
    stage = standing(song.work, around.began).next
    asked = (step for kind in STEP_KINDS.values() if kind.stage == stage for step in kind.find(song, around))
    if stage and not any(step.pressing for step in asked):
        yield OpenStep(
            "stage", f"Call it {stage}, or say what is missing", "nothing that can be seen is lacking", "plan"
        )


@step_kind("silent", "Let something play", ARRANGED, 25)
def _silent(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    if not any(s.placements for s in song.sections):
        yield OpenStep("silent", "Let something play", "the song is silent", "bench", song.sections[0].id)
        return
    for s in song.sections:
        if not s.placements:
            yield OpenStep("silent", f"Fill {s.name}", "nothing plays in it", "bench", s.id)


@step_kind("finding", "Mend a finding", ARRANGED, 10)
def _findings(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    groups = grouped([f for f in judged(song).open if not f.check.startswith("brief")])
    for group in [g for g in groups if g[0].weight >= HEAVY][:MOST_FINDINGS]:
        first = group[0]
        more = f" (and {len(group) - 1} more of its kind)" if len(group) > 1 else ""
        place = first.place[0] if first.place else 0
        said = f"Mend: {CHECKS[first.check].title.lower()}"
        yield OpenStep("finding", said, first.said + more, "checks", place, first.layer_id, first.check)


@step_kind("option", "Decide between options", ARRANGED, 8)
def _options(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    for s in undecided(song):
        count = sum(not p.reason for p in s.parked)
        waits = "an option waits" if count == 1 else f"{count} options wait"
        yield OpenStep("option", f"Decide about {s.name}", f"{waits} to be heard", "options", s.id)


@step_kind("brief", "Meet the brief", ARRANGED, 15)
def _brief(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    for line in read_brief(song, around.today):
        if line.met is False:
            yield OpenStep("brief", "Meet the brief", line.said, "brief", about=line.wish)


@step_kind("prompt", "Keep the prompt", ARRANGED, 15)
def _prompt(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    for rule, value, kept in judged_rules(song):
        if kept.met is False:
            yield OpenStep(
                "prompt",
                f"Keep the prompt: {rule.told(value).rstrip('.').lower()}",
                kept.said,
                "prompt",
                about=rule.key,
            )


@step_kind("idea", "Try a parked idea", ARRANGED, 10, pressing=False)
def _ideas(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    if around.ideas:
        said = "a parked idea might fit" if around.ideas == 1 else f"{around.ideas} parked ideas might fit"
        yield OpenStep("idea", "Look at what was parked", said, "ideas")


# recording --------------------------------------------------------------------------------------------------------


@step_kind("voice", "Record a voice", RECORDED, 30)
def _voices(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    for s in song.sections:
        missing = missing_of(song, s)
        if missing:
            said = f"{', '.join(missing[:3])} {'is' if len(missing) == 1 else 'are'} wanted, and not sung"
            yield OpenStep("voice", f"Record voices of {s.name}", said, "voices", s.id)


@step_kind("words", "Write words", RECORDED, 25)
def _words(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    """Where a song has words at all, sung sections without any."""
    if any(s.lyrics for s in song.sections):
        for s in song.sections:
            if s.role in SUNG_ROLES and not s.lyrics:
                yield OpenStep("words", f"Write words for {s.name}", "other sections have theirs", "voices", s.id)


@step_kind("stand-in", "Exchange a stand-in", RECORDED, 10)
def _stand_ins(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    waiting = [x for x in song.layers if x.stand_in and not x.muted]
    if waiting:
        are = "it is still a stand-in" if len(waiting) == 1 else f"{len(waiting)} layers are still stand-ins"
        said = f"Exchange {some([x.name for x in waiting], 2)}, or keep {'it' if len(waiting) == 1 else 'them'}"
        yield OpenStep("stand-in", said, are, "layer", layer_id=waiting[0].id)


@step_kind("wanted sound", "Find a sound", RECORDED, 15)
def _wanted(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    for words in around.wanted:
        yield OpenStep(
            "wanted sound", f"Find: {shown(words, 40)}", "it was looked for and not found", "samples", about=words
        )


# mixing and mastering ---------------------------------------------------------------------------------------------


@step_kind("feedback", "Answer feedback", MIXED, 10)
def _feedback(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    clashes = disagreements(song)
    if clashes:
        first = clashes[0]
        why = f"one wants more {first.about}, another less, of {first.thing}"
        yield OpenStep("feedback", "Decide between two listeners", why, "feedback", first.one.section_id)
    waiting = [r for r in song.feedback if r.state == "open"]
    if waiting:
        more = f", and {len(waiting) - 1} more" if len(waiting) > 1 else ""
        why = f"“{shown(waiting[0].said, 60)}”{f' by {waiting[0].who}' if waiting[0].who else ''}{more}"
        yield OpenStep("feedback", "Answer what was said", why, "feedback", waiting[0].section_id)


@step_kind("handing", "Make it ready to hand over", MIXED, 8)
def _handing(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    if any(s.placements for s in song.sections):
        for point in not_ready(song):
            if point.rule in AT_HANDING:
                yield OpenStep(
                    "handing", point.remedy, point.said, "handover", point.section_id, point.layer_id, point.rule
                )


@step_kind("mix", "Make a mix and bring it in", MIXED, 60)
def _mix(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    if not around.mixes:
        yield OpenStep("mix", "Make a mix, and lay it beside the song", "no mix was brought in yet", "bounces")


@step_kind("master", "Master it", MASTERED, 45)
def _master(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    mixed = next((m.on for m in reversed(song.work.marks) if m.stage == MIXED), None)
    last = max(around.mixes, key=lambda m: m.on, default=None)
    if last is None or (mixed is not None and last.on < mixed):
        yield OpenStep("master", "Bring the master in", "no mix came since it was called mixed", "bounces")
    elif last.true_peak_dbtp is not None and last.true_peak_dbtp > LOUDEST_DBTP:
        why = f"the last mix peaks at {last.true_peak_dbtp:.1f} dBTP; {LOUDEST_DBTP:g} leaves room for encoders"
        yield OpenStep("master", "Lower the master’s peaks", why.replace("-", "−"), "bounces")


# releasing --------------------------------------------------------------------------------------------------------


@step_kind("not cleared", "Clear a sample", RELEASED, 20)
def _not_cleared(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    for used in used_samples(song):
        if used.open_point:
            yield OpenStep(
                "not cleared",
                f"Clear {shown(used.sample.name, 40)}",
                used.open_point,
                "song samples",
                about=used.sample.content[:12],
            )


@step_kind("shares", "Agree on the shares", RELEASED, 15)
def _shares(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    trouble = shares_trouble(song.people)
    if trouble:
        yield OpenStep("shares", "Settle the shares of the writing", trouble, "plan")


@step_kind("owed", "Give what is owed", RELEASED, 10)
def _owed(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    for person in song.people:
        if person.owed:
            yield OpenStep(
                "owed",
                f"Give {person.name} what is owed",
                shown(" ".join(person.owed.split()), 80),
                "plan",
                about=person.name,
            )


@step_kind("release day", "Choose the day of the release", RELEASED, 10)
def _release(song: Song, around: Surroundings) -> Iterator[OpenStep]:
    if song.work.release_on is None:
        yield OpenStep("release day", "Choose the day of the release", "what is due before follows from it", "plan")

"""A task read from what people say: each sentence is a criterion where it says something that can be measured, else it is left to people."""

from __future__ import annotations

import re
from collections.abc import Sequence

from escalera.cleaning import clean_text
from escalera.core.document.song import Song
from escalera.core.document.task import MAX_CRITERIA, MAX_TASK_TEXT, Criterion, Task
from escalera.core.tasks import form_criteria as form_criteria
from escalera.core.tasks import music_criteria as music_criteria
from escalera.core.tasks.criteria import CRITERION_KINDS
from escalera.core.theory.keys import key_text
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass

BULLET = re.compile(r"^\s*(?:[-*•–]|\d{1,2}[.)])\s+")
WEIGHT = re.compile(r"\s*[\[(](?:weight )?(\d{1,3}(?:[.,]\d+)?)(?: points?| ×|x)?[\])]\s*$", re.I)
POLITE = re.compile(r"^(?:please |make sure (?:that )?|let |it should be that )", re.I)
# kinds that take nearly anything come last, so that what is said more exactly is read first
LAST = ("without", "uses")


@dataclass(frozen=True, slots=True)
class ReadTask:
    """What was read: the task, and sentences that no criterion was read from."""

    task: Task
    left: tuple[str, ...]


def read_task(text: str, title: str = "") -> ReadTask:
    """A task from text: the first line is its title where none is given and it says nothing that can be measured.

    Raises EditError for an empty text, too many criteria, and criteria that contradict each other.
    """
    words = clean_text(text).strip()
    if not words:
        raise EditError("The task is empty. Write what is asked, a sentence each, for example “Chorus has 8 bars”.")
    if len(words) > MAX_TASK_TEXT:
        raise EditError(f"The task has {len(words):,} characters; {MAX_TASK_TEXT:,} fit. Shorten it.")
    rows = _sentences(words)
    first = "" if title or read_sentence(rows[0]) else rows.pop(0)
    found, left = list[Criterion](), list[str]()
    for row in rows:
        criterion = read_sentence(row)
        found.append(criterion) if criterion else left.append(row)
    if len(found) > MAX_CRITERIA:
        raise EditError(f"The task has {len(found)} criteria; {MAX_CRITERIA} fit. Make two tasks of it.")
    need_consistent(found)
    name = " ".join((title or first or "Task").split()).rstrip(".:")[:120]
    return ReadTask(Task(name, words, tuple(found)), tuple(left))


def _sentences(text: str) -> list[str]:
    parts = []
    for line in text.splitlines():
        parts += re.split(r"(?<=[^\d\s])[.;](?:\s+|$)|(?<=\d)[.;](?:\s+(?=[A-Z])|$)", BULLET.sub("", line))
    return [" ".join(p.split()) for p in parts if p.strip()]


def read_sentence(sentence: str) -> Criterion | None:
    """The criterion that a sentence says; None where it says none. A weight may stand behind it in brackets."""
    weighed = WEIGHT.search(sentence)
    weight = float(weighed[1].replace(",", ".")) if weighed else 1.0
    words = POLITE.sub("", (sentence[: weighed.start()] if weighed else sentence).strip(" .!")).strip()
    kinds = sorted(CRITERION_KINDS.values(), key=lambda k: LAST.index(k.key) if k.key in LAST else -1)
    for kind in kinds:
        for pattern in kind.patterns:
            match = pattern.match(words)
            values = (
                _values(kind.key, {**kind.usual, **{k: v for k, v in match.groupdict().items() if v}})
                if match
                else None
            )
            if values is not None:
                return Criterion(kind.key, tuple(sorted(values.items())), min(weight, 100.0))
    return None


def _values(kind: str, given: dict[str, str]) -> dict[str, str] | None:
    """Values read as their kind reads them; None where one cannot be."""
    try:
        return read_values(kind, given)
    except EditError:
        return None


def read_values(kind: str, given: dict[str, str]) -> dict[str, str]:
    """Values of a criterion as they are kept. Raises EditError for a kind or a value that cannot be read."""
    if kind not in CRITERION_KINDS:
        raise EditError(f"“{shown(kind)}” is no criterion. There are: {', '.join(CRITERION_KINDS)}.")
    known = CRITERION_KINDS[kind]
    values = {**known.usual, **given}
    if kind == "tempo":
        values.setdefault("high", values.get("low", ""))
    return {name: read(values.get(name, "")) for name, read in known.values.items()}


def said_of(criterion: Criterion) -> str:
    """A criterion in words, as `read_sentence` reads it."""
    return CRITERION_KINDS[criterion.kind].said(criterion.given)


# pairs of criteria that cannot both be met: (kind, values that must agree, values that must differ, what is said)
SINGLE = {"order": "two forms", "key": "two keys", "ending": "two endings"}


def need_consistent(found: Sequence[Criterion]) -> None:
    """Raise EditError where two criteria cannot both be met, or none weighs anything."""
    if found and sum(c.weight for c in found) <= 0:
        raise EditError("All weights are 0, so nothing would count. Give one criterion a weight.")
    for i, one in enumerate(found):
        for other in found[:i]:
            trouble = _contradiction(other, one)
            if trouble:
                raise EditError(
                    f"“{said_of(other)}” and “{said_of(one)}” contradict each other: {trouble}. Leave one out."
                )


def _contradiction(one: Criterion, other: Criterion) -> str:
    a, b = one.given, other.given
    same = a.get("section", "").casefold() == b.get("section", "").casefold()
    kinds = {one.kind, other.kind}
    if one.kind == other.kind:
        if one.kind in SINGLE and a != b:
            return f"there cannot be {SINGLE[one.kind]}"
        if one.kind in ("length", "edge") and same and a != b:
            return "it cannot have two"
        if one.kind in ("tempo", "layers", "lasts") and _apart(a, b) or one.kind == "levels" and same and _apart(a, b):
            return "no value lies in both"
        if one.kind in ("highest", "lowest") and not same:
            return "only one can be beyond all others"
    if kinds == {"highest", "lowest"} and same:
        return "it cannot be both"
    if kinds == {"uses", "without"} and set(_parts(a)) & set(_parts(b)):
        return "it cannot be there and left out"
    return ""


def _apart(a: dict[str, str], b: dict[str, str]) -> bool:
    """Whether two ranges have no value in common."""
    rows = [sorted(_figure(v) for v in (x["low"], x["high"])) for x in (a, b)]
    return rows[0][1] < rows[1][0] or rows[1][1] < rows[0][0]


def _figure(text: str) -> float:
    minutes, _, seconds = text.partition(":")
    return 60 * float(minutes) + float(seconds) if seconds else float(text)


def _parts(values: dict[str, str]) -> list[str]:
    parts = values.get("what", "").casefold().replace(" and ", ",").split(",")
    return [re.sub(r"^(?:an?|the) ", "", p.strip()).removesuffix("s") for p in parts]


def task_of_form(song: Song, energies: Sequence[float]) -> Task:
    """A task out of a song: its form, lengths, tempo, key and stair, for others to build."""
    rows = [f"The form is {', '.join(s.name for s in song.sections)}"]
    rows += [f"{s.name} has {s.bars} bars" for s in song.sections]
    rows += [
        f"{s.name} has an energy of {max(0.0, e - 1):.1f} to {min(12.0, e + 1):.1f}"
        for s, e in zip(song.sections, energies)
    ]
    rows += [
        f"The tempo is {max(30.0, song.tempo_bpm - 3):g} to {min(300.0, song.tempo_bpm + 3):g} bpm",
        f"The key is {key_text(song.key)}",
    ]
    return read_task(".\n".join(rows) + ".", f"The form of {song.title}"[:120]).task

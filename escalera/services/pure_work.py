"""Pure work that other machines may take: what is made depends on what is given and on nothing else, so that both are named by
the content of what is asked for. Whoever needs a result makes it itself when nobody has begun, or whoever began fell silent."""

from __future__ import annotations

import io
import json
import time
import zipfile
from collections.abc import Callable
from dataclasses import field
from functools import partial
from threading import Condition
from typing import Any

import numpy as np

from escalera.core.document.song import Song
from escalera.core.reading.timeline import Span, timeline
from escalera.errors import InputError, NotFound
from escalera.formats.project import read_project, write_project
from escalera.lazy_dataclasses import dataclass
from escalera.services.logs import LOG
from escalera.sound.bank_player import bank
from escalera.sound.mix import Renderer
from escalera.sound.plan import MIX_VERSION, Part, Plan
from escalera.sound.section import SectionMix, mix_arrays, mix_from
from escalera.sound.spec import VERSION

SILENT_S = 15.0  # a worker that says nothing for so long has lost its work
ASKING_S = 10.0  # a worker's question is answered at the latest after so long
SEEN_S = 30.0  # nothing is offered when no worker has asked for so long
MOST_BYTES = 600_000_000
MADE_BY = f"{VERSION}.{MIX_VERSION}"  # what two programs must agree in, for their sound to be the same


@dataclass(eq=False)
class Offer:
    """One piece of work: what is given is written when somebody takes it."""

    kind: str
    given: Callable[[], bytes]
    most_bytes: int
    worker: str = ""
    beat: float = 0.0
    parts: list[bytes] = field(default_factory=list)
    made: bytes | None = None
    given_up: bool = False


class Board:
    """Work on offer, by content key; safe for threads."""

    def __init__(self) -> None:
        self._offers: dict[str, Offer] = {}
        self._changed, self._asked = Condition(), 0.0

    @property
    def anybody(self) -> bool:
        """Whether a worker asked lately."""
        return time.monotonic() - self._asked < SEEN_S

    def offer(self, key: str, kind: str, given: Callable[[], bytes], most_bytes: int = MOST_BYTES) -> None:
        with self._changed:
            if key not in self._offers:
                self._offers[key] = Offer(kind, given, most_bytes)
                self._changed.notify_all()

    def withdraw(self, keys: list[str]) -> None:
        with self._changed:
            for key in keys:
                self._offers.pop(key, None)

    def take(self, key: str) -> bytes | None:
        """What a worker made of it, waited for while it works; None where it has to be made here."""
        with self._changed:
            offer = self._offers.get(key)
            if offer is None or not offer.worker:
                self._offers.pop(key, None)
                return None
            while offer.made is None and not offer.given_up and time.monotonic() - offer.beat < SILENT_S:
                self._changed.wait(0.5)
            self._offers.pop(key, None)
            if offer.made is None:
                LOG.warning("worker %s did not end what it took; it is made here", offer.worker)
            return offer.made

    # what workers ask ------------------------------------------------------------------------------------------

    def claim(self, worker: str, kinds: set[str], wait_s: float | None = None) -> tuple[str, str] | None:
        """The last piece of work nobody has, since the first ones are being made here; waits for one."""
        until = time.monotonic() + (ASKING_S if wait_s is None else wait_s)
        with self._changed:
            while True:
                self._asked = time.monotonic()
                free = [(key, o) for key, o in self._offers.items() if not o.worker and o.kind in kinds]
                if free:
                    key, offer = free[-1]
                    offer.worker, offer.beat = worker, self._asked
                    return key, offer.kind
                if self._asked >= until:
                    return None
                self._changed.wait(max(0.01, until - self._asked))

    def given(self, key: str, worker: str) -> bytes:
        return self._of(key, worker).given()

    def beat(self, key: str, worker: str) -> None:
        self._of(key, worker)

    def deliver(self, key: str, worker: str, part: bytes, last: bool) -> None:
        """A part of what was made, in order; the last one ends it."""
        offer = self._of(key, worker)
        with self._changed:
            offer.parts.append(part)
            if (size := sum(map(len, offer.parts))) > offer.most_bytes:
                offer.given_up = True
                raise InputError(f"The result has {size:,} bytes so far, and at most {offer.most_bytes:,} are taken.")
            if last:
                offer.made, offer.parts = b"".join(offer.parts), []
                self._changed.notify_all()

    def give_up(self, key: str, worker: str) -> None:
        offer = self._of(key, worker)
        with self._changed:
            offer.given_up = True
            self._changed.notify_all()

    def _of(self, key: str, worker: str) -> Offer:
        with self._changed:
            offer = self._offers.get(key)
            if offer is None or offer.worker != worker:
                raise NotFound("This work is not yours, or is not wanted any more. Ask for other work.")
            offer.beat = time.monotonic()
            return offer


# kinds of pure work -----------------------------------------------------------------------------------------------


def _render(given: bytes, renderer: Renderer) -> bytes:
    """The mix of one section of a project."""
    plain = json.loads(given)
    song = read_project(plain["project"].encode())
    mix = renderer.section_mix(song, timeline(song).span_of(int(plain["section"])))
    out = io.BytesIO()
    arrays: dict[str, Any] = mix_arrays(mix)
    np.savez(out, **arrays)
    return out.getvalue()


PURE_KINDS: dict[str, Callable[[bytes, Renderer], bytes]] = {"render": _render}


def _only_here(part: Part) -> bool:
    """Whether a part needs audio that only this machine has."""
    return part.printed is not None or any(sound.recorded for sound in part.spec.sounds)


class SectionHelp:
    """Lets sections of a song that is rendered whole be mixed elsewhere; handed to the renderer."""

    def __init__(self, board: Board):
        self.board = board

    def offer(self, song: Song, spans: list[tuple[Span, Plan]]) -> list[str]:
        """Offer what another machine can make; what was printed or recorded, or is played by a SoundFont of this one, it cannot."""
        if not self.board.anybody or bank() is not None:
            return []
        alone = [(span, plan) for span, plan in spans if not any(_only_here(p) for p in plan.parts)]
        for span, plan in alone:
            self.board.offer(plan.key, "render", partial(_given, song, span), _largest(plan))
        return [plan.key for _, plan in alone]

    def take(self, plan: Plan) -> SectionMix | None:
        made = self.board.take(plan.key)
        return _checked(made, plan) if made is not None else None

    def withdraw(self, keys: list[str]) -> None:
        self.board.withdraw(keys)


def _given(song: Song, span: Span) -> bytes:
    return json.dumps({"project": write_project(song).decode(), "section": span.section.id}).encode()


def _largest(plan: Plan) -> int:
    return (plan.reach + 20_000_000) * 8 * (2 + len(plan.buses)) // 4 + 100_000


def _checked(made: bytes, plan: Plan) -> SectionMix | None:
    """A mix as it came from elsewhere: of a length that this section can have, finite; else nothing, and it is made here."""
    try:
        with zipfile.ZipFile(io.BytesIO(made)) as packed:
            if sum(i.file_size for i in packed.infolist()) > _largest(plan):
                raise ValueError("it is larger than the section can be")
        with np.load(io.BytesIO(made)) as found:
            mix = mix_from(found)
        arrays = [mix.audio, *mix.buses.values()]
        if any(a.ndim != 2 or a.shape[0] != 2 or a.dtype != np.float32 or not np.isfinite(a).all() for a in arrays):
            raise ValueError("it is no sound")
        if set(mix.buses) - set(plan.dynamic) or mix.offset + mix.audio.shape[1] > plan.reach:
            raise ValueError("it is not of this section")
        return mix
    except (ValueError, KeyError, OSError, EOFError, zipfile.BadZipFile) as error:
        LOG.warning("what a worker made is not used: %s", error)
        return None

"""Edits of judgement: a finding that is accepted, with the reason; one taken up again; the brief."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.limits import MAX_ACCEPTED, MAX_NAME, MAX_REASON
from escalera.core.document.names import clean_name, clean_words
from escalera.core.document.song import Song
from escalera.core.edits.edit import edit, layer_of
from escalera.core.reading.brief import WISHES, read_wish
from escalera.errors import EditError, shown


@edit("accept_finding", "song")
class AcceptFinding:
    """Say that something is accepted, and why; it comes back when the figures change."""

    key: str
    reason: str
    facts: str = ""

    def apply(self, song: Song) -> Song:
        reason = clean_name(self.reason, "reason", MAX_REASON)
        rest = tuple(row for row in song.accepted if row[0] != self.key)
        if len(rest) >= MAX_ACCEPTED:
            raise EditError(f"{MAX_ACCEPTED} findings are accepted already; no more are kept. Reopen some first.")
        return replace(song, accepted=(*rest, (self.key[:120], self.facts[:400], reason)))

    def summary(self, song: Song) -> str:
        return f"Accepted ({self.key.partition(':')[0]}): {self.reason.strip()}"[:200]


@edit("reopen_finding", "song")
class ReopenFinding:
    """Reopen what was accepted."""

    key: str

    def apply(self, song: Song) -> Song:
        rest = tuple(row for row in song.accepted if row[0] != self.key)
        if len(rest) == len(song.accepted):
            raise EditError(f"“{shown(self.key)}” was not accepted. The list shows what was.")
        return replace(song, accepted=rest)

    def summary(self, song: Song) -> str:
        return f"Reopened: {self.key.partition(':')[0]}"


@edit("set_reason", "layers")
class SetReason:
    """Say what a layer is there for."""

    layer_id: int
    reason: str = ""

    def apply(self, song: Song) -> Song:
        reason = clean_words(self.reason, "reason", MAX_REASON)
        return song.with_layer(replace(layer_of(song, self.layer_id), reason=reason))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} reason: {self.reason.strip() or 'no reason'}"[:200]


@edit("set_aside", "layers")
class SetAside:
    """Keep a layer that was tried and did not make it: muted, with the reason. Letting it sound again takes it back."""

    layer_id: int
    reason: str

    def apply(self, song: Song) -> Song:
        reason = clean_name(self.reason, "reason", MAX_REASON)
        return song.with_layer(replace(layer_of(song, self.layer_id), muted=True, aside=reason))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} set aside: {self.reason.strip()}"[:200]


@edit("hold_layer", "layers")
class HoldLayer:
    """Say who sent a layer, so that its notes and sound stay as they are; without a name it is let go."""

    layer_id: int
    sent_by: str = ""

    def apply(self, song: Song) -> Song:
        sender = clean_words(self.sent_by, "name", MAX_NAME)
        return song.with_layer(replace(layer_of(song, self.layer_id), sent_by=sender))

    def summary(self, song: Song) -> str:
        name, sender = layer_of(song, self.layer_id).name, self.sent_by.strip()
        return f"{name}, sent by {sender}, stays as it is" if sender else f"{name} may be changed again"


@edit("set_brief", "song")
class SetBrief:
    """Write lines of the brief; an empty one is taken out."""

    lines: dict[str, str]

    def apply(self, song: Song) -> Song:
        kept = dict(song.brief) | {wish: read_wish(wish, text) for wish, text in self.lines.items()}
        return replace(song, brief=tuple((wish, kept[wish]) for wish in WISHES if kept.get(wish)))

    def summary(self, song: Song) -> str:
        now = dict(song.brief)
        changed = [WISHES[w].label for w, text in self.lines.items() if now.get(w, "") != read_wish(w, text)]
        return f"Brief: {', '.join(changed) or 'as it was'}"[:200]

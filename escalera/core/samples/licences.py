"""Kinds of licence of a sample, and what each allows in plain words. No legal advice: what a licence says counts."""

from __future__ import annotations

from escalera.lazy_dataclasses import dataclass

UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Licence:
    """One kind: its label, what it allows, whether it may be published as it stands, whether a credit line is needed."""

    key: str
    label: str
    allows: str
    cleared: bool
    credit: bool = False


_ROWS = (
    Licence(UNKNOWN, "Not known", "Nothing can be said, so it counts as not cleared.", False),
    Licence("own", "My own recording", "You made it; if others play or sing on it, you need their leave.", True),
    Licence("program", "Made by this program", "Made by the program’s own engine; free for any use.", True),
    Licence("public-domain", "Public domain", "Free for any use, where the recording is free as well as the music.", True),
    Licence("cc0", "CC0", "Free for any use; its maker gave up all rights.", True),
    Licence("attribution", "Attribution (CC BY)", "Any use, with its maker named.", True, True),
    Licence("share-alike", "Share alike (CC BY-SA)", "Any use with its maker named; what is made of it must carry the same licence.", False, True),
    Licence("no-commercial", "Not for sale (CC BY-NC)", "Nothing that earns money; its maker is named.", False, True),
    Licence("royalty-free", "Royalty-free, bought", "As its seller’s terms say: usually any song, never the sample by itself.", True),
    Licence("leave-given", "Leave given by its owner", "As agreed; keep what was written.", True),
    Licence("not-cleared", "Sampled from others, not cleared", "Not to be published until the owners of recording and song give leave.", False),
)  # fmt: skip
LICENCES: dict[str, Licence] = {row.key: row for row in _ROWS}

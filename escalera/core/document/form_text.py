"""A form as text: 'intro 8, verse 16, pre 4, chorus 8 x2'."""

from __future__ import annotations

import re

from escalera.errors import EditError, shown

# what people write for short
SHORT = {
    "pre": "pre-chorus",
    "post": "post-chorus",
    "v": "verse",
    "c": "chorus",
    "ch": "chorus",
    "b": "bridge",
    "in": "intro",
    "out": "outro",
}


def parse_form(text: str) -> list[tuple[str, int]]:
    """Names and bars. Raises EditError that points at the part which cannot be read."""
    sections = []
    for number, part in enumerate(filter(None, (p.strip() for p in text.split(","))), 1):
        match = re.fullmatch(r"(.+?)\s+(\d{1,4})(?:\s*[x×]\s*(\d{1,2}))?", part)
        if not match:
            raise EditError(
                f"Part {number}, “{shown(part)}”, needs a name and a number of bars, for example “verse 16”."
            )
        if not int(match[2]) >= 1:
            raise EditError(f"Part {number}, “{shown(part)}”, has no bars. Give it at least 1.")
        name = SHORT.get(match[1].lower(), match[1])
        name = name[0].upper() + name[1:]
        sections += [(name, int(match[2]))] * int(match[3] or 1)
    if not sections:
        raise EditError("The form is empty. Write sections with their bars, for example “intro 8, verse 16, chorus 8”.")
    return sections


def numbered(parts: list[tuple[str, int]]) -> list[tuple[str, int]]:
    """Parts with repeated names numbered: Verse 1, Chorus 1, Verse 2."""
    count = {name: sum(n == name for n, _ in parts) for name, _ in parts}
    seen: dict[str, int] = {}
    found = []
    for name, bars in parts:
        seen[name] = seen.get(name, 0) + 1
        found.append((f"{name} {seen[name]}" if count[name] > 1 else name, bars))
    return found

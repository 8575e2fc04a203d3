"""The prompt of a week: two or three rules that go together, chosen by the week, so that everybody who looks sees the same."""

from __future__ import annotations

import random
from datetime import date

from escalera.core.document.limits import MAX_PROMPT_RULES
from escalera.core.prompts.prompt_rules import PROMPT_RULES, read_rule
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass

AS_A_RULE = (2, 2, 3)  # rules of a prompt
BRINGS = ("empty", "voice", "drums", "chords", "loop")  # starts of a new song, those that bring least first


@dataclass(frozen=True, slots=True)
class Prompt:
    """A prompt: its name, rules with their values, and words of one's own."""

    name: str
    rules: tuple[tuple[str, str], ...]
    words: str = ""

    @property
    def said(self) -> str:
        """All of it in words."""
        told = [PROMPT_RULES[key].told(value) for key, value in self.rules]
        return " ".join([*told, self.words]).strip()


def week_of(day: date) -> tuple[int, int]:
    """The year and the number of a day's week, as ISO 8601 counts them."""
    year, week, _ = day.isocalendar()
    return year, week


def prompt_of_week(day: date, another: int = 0) -> Prompt:
    """The prompt of the week in which a day lies; `another` is how often a different one was asked for."""
    year, week = week_of(day)
    chance = random.Random(f"{year}-{week}-{another}")
    count, chosen = chance.choice(AS_A_RULE), list[str]()
    for key in chance.sample(list(PROMPT_RULES), len(PROMPT_RULES)):
        if len(chosen) < count and not any(_clash(key, c) for c in chosen):
            chosen.append(key)
    rules = tuple((key, chance.choice(PROMPT_RULES[key].values)) for key in chosen)
    return Prompt(f"Week {week} of {year}", rules)


def _clash(one: str, other: str) -> bool:
    return other in PROMPT_RULES[one].against or one in PROMPT_RULES[other].against


def own_prompt(name: str, rows: list[tuple[str, str]], words: str = "") -> Prompt:
    """A prompt of one's own. Raises EditError where it has neither rules nor words, or rules that cannot stand together."""
    rules = tuple(read_rule(key, value) for key, value in rows)
    if not rules and not words:
        raise EditError("The prompt is empty. Choose a rule, or write what is wanted.")
    if len(rules) > MAX_PROMPT_RULES:
        raise EditError(f"{len(rules)} rules were chosen; at most {MAX_PROMPT_RULES} make a prompt. Leave some out.")
    for i, (key, _) in enumerate(rules):
        clash = next((k for k, _ in rules[:i] if k == key or _clash(k, key)), None)
        if clash == key:
            raise EditError(f"“{shown(key)}” stands there twice. Leave one out.")
        if clash:
            raise EditError(f"“{shown(clash)}” and “{shown(key)}” cannot both be kept. Leave one out.")
    return Prompt(name, rules, words)


def begins_with(prompt: Prompt) -> dict[str, str]:
    """What a new song of the prompt begins with: fields of a new song, from the rules that say some."""
    wanted = [PROMPT_RULES[key].begins(value) for key, value in prompt.rules]
    found = {name: text for each in wanted for name, text in each.items()}
    starts = {each["start"] for each in wanted if "start" in each}
    if starts:  # of several, the one that brings least
        found["start"] = min(starts, key=BRINGS.index)
    return found

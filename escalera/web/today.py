"""Today: what to do next, the timer, the prompt of the week, what was put off, and rest."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date

from flask import Blueprint, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from escalera.core.document.days import days_said
from escalera.core.edits.edit import whole_number
from escalera.core.planning.choosing import FINISH, MINUTES, MODES
from escalera.core.prompts.prompt_rules import PROMPT_RULES
from escalera.core.prompts.weekly import Prompt
from escalera.errors import EscaleraError
from escalera.services.planning import song_of_prompt
from escalera.services.today import PUT_OFF_DAYS
from escalera.web.drawing import facts_stair
from escalera.web.planning_links import step_url
from escalera.web.song_view import studio

blueprint = Blueprint("today", __name__, url_prefix="/today")
MOST_SHOWN = 7
ANOTHER = 50  # prompts of a week that can be looked through
AS_USUAL = (FINISH, 30)


def _asked() -> tuple[str, int]:
    """What is wanted and the minutes there are, as the page says them; what is odd is as usual."""
    mode, minutes = request.values.get("mode", ""), request.values.get("minutes", "")
    return (
        mode if mode in MODES else AS_USUAL[0],
        int(minutes) if minutes.isdecimal() and int(minutes[:3]) in MINUTES else AS_USUAL[1],
    )


def _context(**more: object) -> dict[str, object]:
    mode, minutes = _asked()
    today = date.today()
    told = studio().today.told(mode, minutes, today)
    facts = studio().index.all().by_id
    stairs = {o.song.song_id: facts_stair(facts[o.song.song_id]) for o in told.offers[:MOST_SHOWN]}
    return {
        "mode": mode, "minutes": minutes, "told": told, "offers": told.offers[:MOST_SHOWN], "more": len(told.offers) - MOST_SHOWN,
        "stairs": stairs, "today": today, "step_url": step_url, "days_said": days_said, "choices": MINUTES, "put_off": list(PUT_OFF_DAYS),
        "songs": len(facts), **more,
    }  # fmt: skip


@blueprint.get("")
def page() -> ResponseReturnValue:
    if request.headers.get("HX-Request"):
        return render_template("today/_steps.html", **_context())
    return render_template("today/page.html", **_context(), **_prompts(0), rest=studio().today.rest())


def _done(act: Callable[[], str]) -> ResponseReturnValue:
    """Do something, and show the steps as they are then, with what was done or why not."""
    try:
        said = act()
    except EscaleraError as error:
        return render_template("today/_steps.html", **_context(trouble=str(error))), error.status
    return render_template("today/_steps.html", **_context(said=said))


@blueprint.post("/steps")
def begin() -> ResponseReturnValue:
    """Begin a step, with the timer."""
    form = request.form

    def act() -> str:
        song_id = whole_number(form.get("song", ""), "song", 0)
        found = studio().today.begin(song_id, form.get("step", ""), whole_number(form.get("minutes", ""), "minutes"))
        return f"Begun: {found.said}, {found.planned_min} min."

    return _done(act)


@blueprint.post("/steps/<int:step_id>")
def go_on(step_id: int) -> ResponseReturnValue:
    """Hold the timer, go on, or end the step."""
    act = request.form.get("act", "")
    if act in ("pause", "go on"):
        return _done(lambda: _paused(step_id, act == "pause"))
    return _done(lambda: studio().today.end(step_id, act, request.form.get("took", "")))


def _paused(step_id: int, paused: bool) -> str:
    studio().today.pause(step_id, paused)
    return "The timer is held." if paused else "The timer goes on."


@blueprint.post("/skips")
def skip() -> ResponseReturnValue:
    """Put a step off, with a reason."""
    form = request.form
    return _done(
        lambda: studio().today.skip(
            whole_number(form.get("song", ""), "song", 0),
            form.get("step", ""),
            form.get("reason", ""),
            form.get("until", ""),
        )
    )


@blueprint.post("/skips/<int:skip_id>/back")
def unskip(skip_id: int) -> ResponseReturnValue:
    return _done(lambda: studio().today.unskip(skip_id))


@blueprint.post("/rest")
def set_rest() -> ResponseReturnValue:
    """After how long a break is proposed, and whether late hours are noted."""
    return _done(lambda: studio().today.set_rest(request.form.get("after", ""), request.form.get("late", "")))


# prompts ----------------------------------------------------------------------------------------------------------


def _prompts(another: int, **more: object) -> dict[str, object]:
    return {
        "prompt": studio().planning.prompt_of_week(date.today(), another), "another": another, "rules": PROMPT_RULES,
        "own": studio().planning.own_prompts(), **more,
    }  # fmt: skip


def _prompt_panel(another: int = 0, status: int = 200, **more: object) -> ResponseReturnValue:
    return render_template("today/_prompts.html", **_prompts(another, **more)), status


@blueprint.get("/prompt")
def prompt() -> ResponseReturnValue:
    """The prompt of the week, or another one of it."""
    return _prompt_panel(whole_number(request.args.get("another", "0"), "number", 0) % ANOTHER)


@blueprint.post("/prompts")
def keep_prompt() -> ResponseReturnValue:
    """Keep a prompt of one's own: ticked rules with their values, and words."""
    form = request.form
    rows = [(key, form.get(f"value.{key}", "")) for key in PROMPT_RULES if form.get(f"rule.{key}")]
    try:
        said = studio().planning.keep_prompt(form.get("name", ""), form.get("words", ""), rows)
    except EscaleraError as error:
        return _prompt_panel(0, error.status, prompt_trouble=str(error), opened=True)
    return _prompt_panel(0, prompt_said=said)


@blueprint.post("/prompts/<int:prompt_id>/forget")
def forget_prompt(prompt_id: int) -> ResponseReturnValue:
    try:
        return _prompt_panel(0, prompt_said=studio().planning.forget_prompt(prompt_id))
    except EscaleraError as error:
        return _prompt_panel(0, error.status, prompt_trouble=str(error))


@blueprint.post("/prompts/song")
def begin_song() -> ResponseReturnValue:
    """A song of a prompt, with its brief: of the week, or one of one's own."""
    own = whole_number(request.form.get("prompt", "0"), "prompt", 0)
    found: Prompt = (
        studio().planning.prompt(own)
        if own
        else studio().planning.prompt_of_week(
            date.today(), whole_number(request.form.get("another", "0"), "number", 0) % ANOTHER
        )
    )
    song_id = studio().add_song(song_of_prompt(found), f"Prompt: {found.said}"[:200])
    return redirect(url_for("stair.page", song_id=song_id))

"""Where an open step is done: the page, dialog or place that serves it."""

from __future__ import annotations

from escalera.core.planning.open_steps import OpenStep

# what a step opens: its address, with the song, section and layer in it
PLACES = {
    "bench": "/songs/{song}/bench?select=tile:{section}:0:0:0",
    "voices": "/songs/{song}/voices?section={section}",
    "feedback": "/songs/{song}/feedback",
    "handover": "/songs/{song}/handover",
    "bounces": "/songs/{song}/bounces",
    "samples": "/samples",
    "song samples": "/songs/{song}/samples",
    "plan": "/songs/{song}/plan",
    "layer": "/songs/{song}?select=layer:0:{layer}",
    "prompt": "/songs/{song}?select=song&open=brief",
}
SELECTED = "/songs/{song}?select={place}&open={opens}"  # a dialog of the stair


def step_url(song_id: int, step: OpenStep) -> str:
    """The address at which a step is done."""
    place = f"section:{step.section_id}" if step.section_id else "song"
    known = PLACES.get(step.opens, SELECTED if step.opens else "/songs/{song}")
    return known.format(song=song_id, section=step.section_id, layer=step.layer_id, place=place, opens=step.opens)

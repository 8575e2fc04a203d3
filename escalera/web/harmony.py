"""The harmony page of a song: chords read, named, heard, voiced; held notes; the key and its changes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.document.chord_text import Word
from escalera.core.document.limits import MAX_SHIFT_SEMITONES, PUSHES
from escalera.core.document.song import Layer, Progression, Section, Song
from escalera.core.edits.edit import layer_of, section_of, whole_number
from escalera.core.edits.harmony_edits import VOICING_PARTS, read_chords
from escalera.core.energy.model import section_energy
from escalera.core.reading.key_change import APPROACHES, approach_chords, key_change_plan
from escalera.core.reading.key_reading import key_reading, label_note
from escalera.core.reading.section_harmony import progression_of, section_key
from escalera.core.reading.timeline import timeline
from escalera.core.theory.continuations import leads_on, passing, pivots
from escalera.core.theory.keys import MODES, transpose_key
from escalera.core.theory.naming import inversion, name_chord
from escalera.core.theory.pitch import fifths_to_class, name_to_fifths
from escalera.core.theory.voicings import PAIRS
from escalera.errors import EditError, InputError
from escalera.services.hearing import chords_song, note_song
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web.edits import add_edits, entered
from escalera.web.harmony_drawing import circle
from escalera.web.harmony_view import ChordFacts, HarmonyView
from escalera.web.song_view import studio

blueprint = Blueprint("harmony", __name__, url_prefix="/songs/<int:song_id>/harmony")
INVERSIONS = (
    "root position",
    "first inversion",
    "second inversion",
    "third inversion",
    "fourth inversion",
    "fifth inversion",
    "sixth inversion",
)
MAX_LINE = 2000


def view_of(head: Head) -> HarmonyView:
    values = request.values
    return HarmonyView(head, values.get("select", ""), values.get("hear", ""), values.get("held", ""))


def context(view: HarmonyView) -> dict[str, Any]:
    last = view.changes[-1].chord if view.has_chords and view.changes else None
    return {
        "view": view,
        "song": view.song,
        "head": view.head,
        "place": "harmony",
        "parts": VOICING_PARTS,
        "pairs": list(PAIRS),
        "pushes": PUSHES,
        "modes": MODES,
        "approaches": APPROACHES,
        "wedges": circle(view.key),
        "leads": leads_on(last, view.key, 9),
        "leads_from": last,
        "passings": [],
    }


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("harmony/page.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/show")
def show(song_id: int) -> ResponseReturnValue:
    """The page for another section, layer or held note."""
    return _fragments(studio().head(song_id), None)


def _fragments(head: Head, outcome: Outcome | None) -> str:
    return render_template(
        "harmony/_changed.html",
        **context(view_of(head)),
        summary=outcome.summary if outcome else "",
        entered=entered(outcome),
    )


@blueprint.get("/read")
def read(song_id: int) -> ResponseReturnValue:
    """A line of chords as it is being written: every chord read, what leads on from the one at the caret, what passes."""
    view = view_of(studio().head(song_id))
    text = request.args.get("line", "")
    if len(text) > MAX_LINE:
        raise InputError(f"The line has {len(text):,} characters; at most {MAX_LINE:,} are read. Shorten it.")
    line = view.read(text)
    at = request.args.get("word", default=-1, type=int)
    words = line.words
    here = words[at] if 0 <= at < len(words) else (words[-1] if words else None)
    after = words[at + 1] if 0 <= at < len(words) - 1 else (words[0] if len(words) > 1 else None)
    return render_template(
        "harmony/_reading.html",
        view=view,
        line=line,
        facts=[_facts(view, w) for w in words],
        head=view.head,
        **_next(view, here, after),
        swap=True,
    )


def _facts(view: HarmonyView, word: Word) -> ChordFacts | None:
    return view.facts(word.tick, word.chord) if word.chord is not None else None


def _next(view: HarmonyView, here: Word | None, after: Word | None) -> dict[str, Any]:
    chord = here.chord if here else None
    between = (
        passing(chord, after.chord, view.key)[:3] if chord and after and after.chord and after.chord != chord else []
    )
    return {"leads": leads_on(chord, view.key, 9), "leads_from": chord, "passings": between}


@blueprint.get("/named")
def named(song_id: int) -> ResponseReturnValue:
    """Readings of notes that are played."""
    view = view_of(studio().head(song_id))
    pitches = [whole_number(p) for p in request.args.get("pitches", "").split(",")[:16] if p]
    if any(not 0 <= p <= 127 for p in pitches):
        raise InputError("A pitch lies outside 0 to 127. Play it again.")
    found = [(r, _inversion(r.chord)) for r in name_chord(pitches, view.key, 4)]
    names = view.key.pitch_name
    return render_template("harmony/_named.html", found=found, pitches=[names(p) for p in sorted(pitches)])


def _inversion(chord) -> str:  # type: ignore[no-untyped-def]
    number = inversion(chord)
    return "" if not number else INVERSIONS[number]


@blueprint.get("/held")
def held(song_id: int) -> ResponseReturnValue:
    """What held notes are over every chord, and which could be held throughout."""
    view = view_of(studio().head(song_id))
    classes = [fifths_to_class(name_to_fifths(n)) for n in view.held_text.replace(",", " ").split()]
    return render_template(
        "harmony/_held.html", view=view, head=view.head, rows=view.held_table(classes), count=len(classes)
    )


@blueprint.get("/key")
def key(song_id: int) -> ResponseReturnValue:
    """The key that the content has, beside the label."""
    view = view_of(studio().head(song_id))
    found = key_reading(view.song)
    return render_template("harmony/_key.html", view=view, found=found, note=label_note(view.song.key, found))


@blueprint.get("/plan")
def plan(song_id: int) -> ResponseReturnValue:
    """What a key change would ask of every layer, and what leads there."""
    song = studio().head(song_id).song
    section = section_of(song, whole_number(request.args.get("section_id", "")))
    by = whole_number(request.args.get("semitones", "0"))
    if abs(by) > MAX_SHIFT_SEMITONES:
        raise EditError(
            f"A key change of {by} semitones lies outside −{MAX_SHIFT_SEMITONES} to "
            f"{MAX_SHIFT_SEMITONES}. Choose fewer."
        )
    index = song.index_of(section.id)
    following = song.sections[index:] if request.args.get("to_the_end", "true") == "true" else (section,)
    old = section_key(song, song.sections[index - 1]) if index else section_key(song, section)
    new = transpose_key(song.key, section.shift_semitones + by)
    ways = {way: approach_chords(old, new, way) for way in APPROACHES}
    return render_template(
        "harmony/_plan.html",
        tasks=key_change_plan(song, following, by),
        old=old,
        new=new,
        ways=ways,
        pivots=pivots(old, new),
        section=section,
        by=by,
        ratio=2.0 ** (by / 12.0),
    )


@blueprint.get("/energy")
def energy(song_id: int) -> ResponseReturnValue:
    """What the chord changes give to a section's arranged energy: with them, and with one chord held."""
    view = view_of(studio().head(song_id))
    if view.section is None or view.progression is None:
        return "", 204
    now = section_energy(view.song, timeline(view.song).span_of(view.section.id))
    still = _held_still(view.song, view.section)
    return render_template(
        "harmony/_energy.html",
        view=view,
        now=now.value,
        without=section_energy(still, timeline(still).span_of(view.section.id)).value,
    )


def _held_still(song: Song, section: Section) -> Song:
    """The song with the section's first chord held throughout."""
    own = progression_of(song, section)
    assert own is not None
    return song.with_section(replace(section, progression=Progression(own.changes[:1], own.length_ticks)))


@blueprint.get("/hear.wav")
def hear(song_id: int) -> ResponseReturnValue:
    """A line of chords as sound: by a layer, or by neutral keys.."""
    song = studio().head(song_id).song
    layer, section = _layer(song), _section(song)
    text = request.args.get("line", "")[:MAX_LINE]
    progression = read_chords(song, text, section)
    if progression is None:
        raise EditError("There are no chords to hear yet. Write one.")
    return _wav(studio().hear(chords_song(song, section, progression, layer)))


@blueprint.get("/note/<int:pitch>.wav")
def note(song_id: int, pitch: int) -> ResponseReturnValue:
    song = studio().head(song_id).song
    return _wav(studio().hear(note_song(song, pitch, _layer(song))))


def _layer(song: Song) -> Layer | None:
    text = request.args.get("hear", "")
    return layer_of(song, whole_number(text)) if text and text != "0" else None


def _section(song: Song) -> Section | None:
    text = request.args.get("section", "")
    return section_of(song, whole_number(text)) if text and text != "0" else None


def _wav(data: bytes) -> Response:
    return Response(data, mimetype="audio/wav", headers={"Cache-Control": "no-store"})


add_edits(blueprint, _fragments)

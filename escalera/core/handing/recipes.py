"""How every sound is made, in the field's terms with units, so that it can be built with other tools."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from escalera.core.document.devices import Device
from escalera.core.document.lanes import CONTROLS, bus_of, layer_parameter, layer_value, return_settings
from escalera.core.document.song import EVERY_BEAT, Layer, Song
from escalera.core.palette.effects import EFFECT_BY_KEY, RETURN_BY_KEY, RETURNS
from escalera.core.palette.parameters import setting
from escalera.core.palette.sound_kind import FAMILIES

SHOWN_ALWAYS = ("level_db", "pan")


def recipes(song: Song) -> str:
    """Every layer, bus and room, and the mix, as text."""
    parts = [f"{song.title}: how it sounds", ""]
    parts += [f"{song.tempo_bpm:g} bpm, {song.metre}, tuned to A = {song.tuning_hz:g} Hz", ""]
    for layer in song.layers:
        parts += [layer.name.upper(), *(f"  {line}" for line in _layer(song, layer)), ""]
    for family in FAMILIES:
        bus = bus_of(song, family)
        if bus.devices or bus.level_db:
            parts += [
                f"BUS OF ALL {family.upper()}",
                f"  level {bus.level_db:+g} dB",
                *(f"  {x}" for x in _chain(bus.devices)),
                "",
            ]
    for row in RETURNS:
        if any(layer.send_db(row.key) > -59.5 for layer in song.layers):
            kind = EFFECT_BY_KEY[row.effect]
            values = dict(row.settings + return_settings(song, row.key))
            told = ", ".join(
                f"{p.label.lower()} {p.said(values.get(p.key, p.default))}" for p in kind.parameters if p.key != "mix"
            )
            parts += [f"SHARED SPACE: {row.label.upper()}", f"  {kind.label.lower()}: {told}", ""]
    if song.master or song.master_gain_db:
        parts += [
            "THE MIX",
            f"  level {song.master_gain_db:+g} dB",
            *(f"  {x}" for x in _chain(song.master)),
            "  then a limiter at −1 dBTP",
            "",
        ]
    return "\n".join(parts)


def _layer(song: Song, layer: Layer) -> Iterator[str]:
    sound = layer.sound
    yield f"sound: {sound.label} ({layer.family}, {layer.job}){', muted' if layer.muted else ''}"
    if layer.reason:
        yield f"why: {layer.reason}"
    told = [f"{p.label.lower()} {p.said(setting(layer.settings, p))}" for p in sound.parameters]
    if told:
        yield f"set: {', '.join(told)}"
    if layer.recipe:
        yield f"noted: {layer.recipe}"
    for key, parameter in CONTROLS.items():
        value = layer_value(layer, key)
        if key in SHOWN_ALWAYS or value != parameter.default and not (key.startswith("send") and value <= -59.5):
            yield f"{parameter.label.lower()}: {parameter.said(value)}"
    if layer.duck_db > 0:
        named = song.layer_by_id.get(layer.duck_by)
        by = {0: "the kick", EVERY_BEAT: "every beat"}.get(layer.duck_by, named.name if named else "the kick")
        yield f"ducked by {by}"
    for part in layer.stack:
        yield f"stacked: {part.sound_key.replace('-', ' ')} at {part.level_db:+g} dB"
    yield from _chain(layer.devices)
    for section in song.sections:
        mine = [t for t in section.treatments if t.layer_id == layer.id]
        if mine:
            told = [
                f"{layer_parameter(layer, t.lane).label.lower()} {layer_parameter(layer, t.lane).said(t.value)}"
                for t in mine
            ]
            yield f"in {section.name}: {', '.join(told)}"


def _chain(devices: Sequence[Device]) -> Iterator[str]:
    for number, device in enumerate(devices, 1):
        told = ", ".join(f"{p.label.lower()} {p.said(device.value(p.key))}" for p in device.kind.parameters)
        yield f"effect {number}, {device.kind.label.lower()}{'' if device.on else ' (off)'}: {told}"


def spaces_used(song: Song) -> list[str]:
    """Names of the shared spaces that somebody is sent into."""
    return [RETURN_BY_KEY[r.key].label for r in RETURNS if any(x.send_db(r.key) > -59.5 for x in song.layers)]

"""The palette: a row for every sound. What plays a row lies in sound.voices under the same key."""

from __future__ import annotations

from escalera.core.palette import knobs as k
from escalera.core.palette.parameters import Parameter
from escalera.core.palette.sound_kind import Sound


def drum(
    key: str,
    label: str,
    role: str,
    note: int,
    attack: float,
    level: float,
    job: str,
    promise: str,
    *parameters: Parameter,
) -> Sound:
    """A row of the palette for one drum: `note` is its General MIDI key, `attack` 0..1, `level` in dB."""
    return Sound(key, label, "drums", job, (note, note), level, parameters, promise, "struck", role, note, attack)


def pitched(
    key: str,
    label: str,
    family: str,
    job: str,
    low: int,
    high: int,
    level: float,
    promise: str,
    *parameters: Parameter,
    program: int = 0,
    struck: bool = False,
    mono: bool = False,
) -> Sound:
    """A row of the palette for a sound with pitch: register as MIDI notes, `level` in dB, `program` of General MIDI from 0."""
    hold = "struck" if struck else "sustained"
    return Sound(key, label, family, job, (low, high), level, parameters, promise, hold, program=program, mono=mono)


def place(key: str, label: str, promise: str, *parameters: Parameter, level: float = -22) -> Sound:
    """A row of the palette for the sound of a place, which goes on without notes."""
    return Sound(key, label, "atmosphere", "texture", (60, 60), level, parameters, promise, program=122)


def carrier(
    key: str,
    label: str,
    job: str,
    promise: str,
    *parameters: Parameter,
    low: int = 60,
    high: int = 60,
    level: float = -15,
    rise: bool = False,
    struck: bool = False,
) -> Sound:
    """A row of the palette for a sound that leads from one section into the next (riser, sweep, impact)."""
    hold = "struck" if struck else "sustained"
    return Sound(key, label, "effects", job, (low, high), level, parameters, promise, hold, program=122, rise=rise)


DRUMS = (
    drum("round-kick", "Round kick", "kick", 36, 1.0, -9, "attack", "deep, short and round, with a soft click",
         k.TUNE(49), k.DROP(3.4), k.FALL(0.028), k.LENGTH(0.19), k.CLICK(0.22), k.DRIVE(0)),
    drum("hard-kick", "Hard kick", "kick", 36, 1.0, -10, "attack", "driven, with a hard knock in front",
         k.TUNE(52), k.DROP(5.0), k.FALL(0.018), k.LENGTH(0.16), k.CLICK(0.55), k.DRIVE(0.6)),
    drum("soft-kick", "Soft kick", "kick", 36, 0.8, -8, "body", "no highs at all: a pulse from the next room",
         k.TUNE(50), k.DROP(2.2), k.LENGTH(0.17), k.SOFTEN(220)),
    drum("clicky-kick", "Clicky kick", "kick", 36, 1.0, -10, "attack", "a bright tick that cuts through, little weight",
         k.TUNE(58), k.DROP(4.2), k.FALL(0.012), k.LENGTH(0.11), k.CLICK(0.68)),
    drum("stomp-kick", "Stomp", "kick", 36, 0.9, -9, "body", "a foot on a wooden floor, with its room",
         k.TUNE(63), k.DROP(1.6), k.LENGTH(0.10), k.CLICK(0.4), k.DRIVE(0.2)),
    drum("room-snare", "Room snare", "snare", 38, 0.9, -9, "attack", "head, wires and a wide room behind",
         k.TONE(0.8), k.WIRES(0.8), k.WIRES_LENGTH(0.10), k.ROOM(0.5), k.TUNE(187)),
    drum("thud-snare", "Thud snare", "snare", 38, 0.9, -8, "body", "low and dry: mostly the head",
         k.TUNE(140), k.TONE(1.2), k.WIRES(0.35), k.WIRES_LENGTH(0.06)),
    drum("tonal-snare", "Tonal snare", "snare", 38, 0.9, -9, "attack", "a ringing note above the wires",
         k.TUNE(245), k.TONE(1.1), k.WIRES(0.5), k.WIRES_LENGTH(0.09)),
    drum("gated-snare", "Gated snare", "snare", 38, 0.95, -9, "width", "a huge room, cut off short",
         k.TUNE(175), k.TONE(0.6), k.WIRES(0.5), k.ROOM(0.7), k.GATE(0.22)),
    drum("loose-clap", "Loose clap", "clap", 39, 0.8, -9, "attack", "three hands that do not quite agree",
         k.CENTRE(1350), k.SPREAD_HANDS(0.012), k.TAIL(1.0), k.TAIL_LENGTH(0.075)),
    drum("tight-clap", "Tight clap", "clap", 39, 0.8, -9, "attack", "two hands at once, dry and bright",
         k.CENTRE(1900), k.SPREAD_HANDS(0.006), k.TAIL(0.6), k.TAIL_LENGTH(0.035)),
    drum("rim-knock", "Rim knock", "rim", 37, 0.6, -11, "attack", "wood on the rim",
         k.HIGH_TUNE(520), k.LENGTH(0.022), k.TICK(0.5)),
    drum("finger-snap", "Finger snap", "snap", 39, 0.5, -11, "attack", "one snap and a little air",
         k.CENTRE(2500), k.TAIL(0.35), k.TAIL_LENGTH(0.05)),
    drum("dry-click", "Dry click", "click", 76, 0.3, -14, "attack", "a tick with no body",
         k.HIGH_TUNE(2900), k.LENGTH(0.006), k.TICK(1.2)),
    drum("glass-click", "Glass click", "click", 77, 0.3, -16, "top", "a small bright tap on glass",
         k.HIGH_TUNE(4300), k.LENGTH(0.03), k.TICK(0.4)),
    drum("tin-hat", "Tin hat", "closed hat", 42, 0.35, -10, "top", "closed, short and metallic",
         k.DECAY(0.034), k.METAL(0.6), k.HISS(0.55), k.SIZE(1.0)),
    drum("paper-hat", "Paper hat", "closed hat", 42, 0.3, -11, "top", "closed and soft, more hiss than metal",
         k.DECAY(0.024), k.METAL(0.15), k.HISS(0.8), k.SIZE(1.15)),
    drum("open-tin-hat", "Open tin hat", "open hat", 46, 0.45, -12, "top", "open until the closed hat stops it",
         k.RING_DECAY(0.20), k.METAL(0.6), k.HISS(0.5), k.SIZE(1.02)),
    drum("seed-shaker", "Seed shaker", "shaker", 70, 0.3, -12, "movement", "seeds gathering and falling",
         k.CENTRE(6300), k.LENGTH(0.030)),
    drum("bell-ride", "Bell ride", "ride", 51, 0.5, -14, "movement", "a long cymbal with a bell in front",
         k.RING_DECAY(0.75), k.METAL(0.7), k.HISS(0.35), k.BELL(0.7), k.SIZE(0.86)),
    drum("wide-crash", "Wide crash", "crash", 49, 0.8, -12, "width", "a crash whose hiss fills both sides",
         k.RING_DECAY(0.62), k.METAL(0.4), k.HISS(0.55), k.SIZE(0.71)),
    drum("low-tom", "Low tom", "low tom", 41, 0.8, -9, "body", "a big skin", k.TUNE(78), k.DROP(1.5), k.LENGTH(0.32), k.CLICK(0.25)),
    drum("mid-tom", "Mid tom", "mid tom", 45, 0.75, -10, "body", "a middle skin", k.TUNE(112), k.DROP(1.5), k.LENGTH(0.26), k.CLICK(0.25)),
    drum("high-tom", "High tom", "high tom", 48, 0.7, -11, "body", "a small skin", k.TUNE(160), k.DROP(1.5), k.LENGTH(0.21), k.CLICK(0.25)),
    drum("tin-cowbell", "Cowbell", "cowbell", 56, 0.5, -13, "top", "two hollow tones a fifth apart",
         k.HIGH_TUNE(562), k.LENGTH(0.11), k.TICK(0.2)),
    drum("low-hand-drum", "Low hand drum", "low hand drum", 64, 0.55, -11, "movement", "a palm on a tall drum",
         k.TUNE(185), k.DROP(1.15), k.LENGTH(0.14), k.CLICK(0.3)),
    drum("high-hand-drum", "High hand drum", "high hand drum", 63, 0.5, -12, "movement", "fingertips on a small drum",
         k.TUNE(330), k.DROP(1.12), k.LENGTH(0.07), k.CLICK(0.6)),
)  # fmt: skip

LOW_END = (
    Sound("kick-bass", "Kick-bass", "low end", "weight", (28, 43), -10,
          (k.DROP(4.5), k.FALL(0.030), k.LENGTH(0.9), k.CLICK(0.2), k.DRIVE(0.35), k.RELEASE(0.06)),
          "a long tuned kick that is its own bass", "struck", attack=1.0, program=38, tuned_kick=True),
    pitched("sub-sine", "Sub sine", "low end", "weight", 28, 43, -14, "a plain low sine with a trace of its octave",
            k.BITE(0.12), k.ATTACK(0.008), k.DRIVE(0), k.RELEASE(0.07), program=38),
    pitched("detuned-bass", "Detuned bass", "low end", "body", 31, 55, -14, "two or three saws leaning against each other",
            k.DETUNE(11), k.BRIGHT(3.5), k.PLUCK(900), k.SUB(0.5), k.DRIVE(0.15), k.WIDTH(0.35), program=38),
    pitched("growl-bass", "Growl bass", "low end", "movement", 31, 55, -15, "a voice that chews its vowels",
            k.BITE(3.6), k.WOBBLE(0.8), k.WOBBLE_RATE(3.0), k.DRIVE(0.5), program=39),
    pitched("plucked-bass", "Plucked bass", "low end", "body", 31, 52, -11, "a string with weight under it",
            k.BRIGHT(1.6), k.PLUCK(700), k.PLUCK_TIME(0.075), k.SUB(0.9), k.FADE(0.55), program=33, struck=True),
    pitched("picked-bass", "Picked bass", "low end", "attack", 31, 55, -11, "wire and pick, bright in front",
            k.SLOPE(0.9), k.STRIKE(0.13), k.RING(1.0), k.DAMPING(0.25), k.HAMMER(0.8), program=34, struck=True),
    pitched("brass-bass", "Brass-like bass", "low end", "attack", 31, 55, -13, "opens like a low horn",
            k.OPEN(120), k.PLUCK(2200), k.PLUCK_TIME(0.22), k.SUB(0.35), k.DRIVE(0.3), program=38),
    pitched("gliding-bass", "Gliding bass", "low end", "body", 28, 52, -13, "one voice; overlapping notes slide",
            k.GLIDE(0.07), k.BRIGHT(2.2), k.SUB(0.8), k.DRIVE(0.25), program=35, mono=True),
)  # fmt: skip

CHORDS = (
    pitched("grand-piano", "Grand piano", "chords", "body", 45, 84, -11, "hammers and three strings a note",
            k.SLOPE(1.15), k.DAMPING(0.22), k.HAMMER(0.6), k.UNISON(0.7), k.RELEASE(0.18), struck=True),
    pitched("tine-keys", "Tine keys", "chords", "body", 50, 79, -13, "struck tines that bark when hit",
            k.BITE(1.5), k.BITE_TIME(0.30), k.PING(0.10), k.SWAY(0.30), program=4, struck=True),
    pitched("felt-piano", "Felt piano", "chords", "body", 48, 79, -11, "muted by felt: close, soft, wooden",
            k.SLOPE(2.1), k.DAMPING(0.5), k.HAMMER(1.2), k.RING(0.35), struck=True),
    pitched("tone-organ", "Tone organ", "chords", "width", 48, 79, -17, "pipes held as long as the key",
            k.SLOPE(0.7), k.ODD(0.0), k.ATTACK(0.012), program=16),
    pitched("plucked-guitar", "Plucked guitar", "chords", "movement", 45, 79, -11, "a nylon string, single notes",
            k.STRIKE(0.22), k.SLOPE(0.6), k.RING(0.5), k.DAMPING(0.45), program=24, struck=True),
    pitched("strummed-guitar", "Strummed guitar", "chords", "width", 45, 76, -13, "steel strings struck one after the other",
            k.STRUM(0.018), k.STRIKE(0.12), k.SLOPE(0.35), k.RING(0.7), k.DAMPING(0.22), program=25, struck=True),
    pitched("wide-saws", "Wide saws", "chords", "width", 50, 76, -14, "seven saws from side to side",
            k.DETUNE(14), k.WIDTH(0.95), k.OPEN(12_000), k.ATTACK(0.016), k.RELEASE(0.18), program=81),
    pitched("soft-pad", "Soft pad", "chords", "body", 50, 74, -16, "slow saws below a breathing filter",
            k.OPEN(420), k.BRIGHT(1.8), k.WOBBLE(0.45), k.ATTACK(0.2), k.RELEASE(0.7), program=89),
    pitched("breath-pad", "Breath pad", "chords", "texture", 52, 76, -17, "air before tone",
            k.AIR(0.28), k.OPEN(900), k.ATTACK(0.35), k.RELEASE(0.9), program=95),
    pitched("sparkle-pad", "Sparkle pad", "chords", "top", 64, 88, -19, "high, thin and moving",
            k.DETUNE(9), k.OPEN(5200), k.WOBBLE(0.9), k.WOBBLE_RATE(2.3), k.ATTACK(0.25), program=96),
    pitched("bowed-strings", "Bowed strings", "chords", "width", 48, 84, -15, "a section of bows",
            k.DETUNE(8), k.VIBRATO(12), k.OPEN(3400), k.ATTACK(0.11), k.RELEASE(0.25), program=48),
    pitched("pizzicato", "Pizzicato", "chords", "attack", 48, 84, -10, "plucked bows: short and woody",
            k.RING(0.11), k.SLOPE(1.0), k.STRIKE(0.3), k.HAMMER(0.8), program=45, struck=True),
    pitched("warm-brass", "Warm brass", "chords", "attack", 48, 77, -14, "horns that open as they speak",
            k.PLUCK(2600), k.PLUCK_TIME(0.09), k.DETUNE(5), k.ATTACK(0.03), program=61),
)  # fmt: skip

LEADS = (
    pitched("glass-bell", "Glass bell", "leads", "hook", 69, 96, -15, "struck glass, long and clear",
            k.RING(1.1), k.DAMPING(0.9), k.SLOPE(1.1), program=14, struck=True),
    pitched("wood-mallet", "Wood mallet", "leads", "hook", 60, 91, -11, "a soft mallet on a wooden bar",
            k.RING(0.28), k.DAMPING(1.2), k.SLOPE(1.6), k.HAMMER(0.7), program=12, struck=True),
    pitched("music-box", "Music box", "leads", "hook", 72, 96, -14, "a comb of steel teeth",
            k.RING(0.7), k.SLOPE(1.5), k.HAMMER(0.3), program=10, struck=True),
    pitched("short-pluck", "Short pluck", "leads", "movement", 60, 88, -11, "a quick bright dab",
            k.PLUCK(5200), k.PLUCK_TIME(0.05), k.FADE(0.14), k.EDGE(0.8), program=84, struck=True),
    pitched("opening-pluck", "Opening pluck", "leads", "movement", 57, 86, -12, "starts dark and opens while it dies",
            k.PLUCK(6500), k.PLUCK_TIME(0.25), k.FADE(0.5), k.EDGE(0.6), program=84, struck=True),
    pitched("plucked-lead", "Plucked lead", "leads", "hook", 60, 88, -12, "saw and pulse below a closing filter",
            k.PLUCK(7200), k.PLUCK_TIME(0.11), k.FADE(0.42), k.DETUNE(2), program=87, struck=True),
    pitched("arp-lead", "Arpeggio lead", "leads", "movement", 60, 91, -14, "narrow pulses for quick patterns",
            k.OPEN(2400), k.PLUCK(4200), k.PLUCK_TIME(0.09), k.WIDTH(0.5), k.EDGE(0.5), program=80),
    pitched("reed-solo", "Reed solo", "leads", "hook", 55, 84, -13, "a hollow reed that sings late",
            k.HOLLOW(0.8), k.VIBRATO(18), k.AIR(0.06), k.OPEN(2600), k.ATTACK(0.05), program=71),
)  # fmt: skip

VOICES = (
    pitched("vowel-voice", "Vowel voice", "voices", "hook", 55, 79, -12, "one voice on one vowel, for guide melodies",
            k.VOWEL(0), k.BREATH(0.05), k.VIBRATO(22), k.ATTACK(0.06), k.RELEASE(0.16), program=54),
    pitched("ooh-voices", "Ooh voices", "voices", "width", 52, 76, -15, "four voices on a soft u, left to right",
            k.VOWEL(3.8), k.BREATH(0.10), k.DETUNE(8), k.WIDTH(0.8), k.ATTACK(0.18), program=52),
    pitched("voice-chop", "Voice chop", "voices", "answer", 57, 84, -11, "a syllable cut short, from e to a",
            k.VOWEL(1), k.TO_VOWEL(0), k.BREATH(0.04), k.RELEASE(0.05), program=85, struck=True),
)  # fmt: skip

EFFECTS = (
    carrier("plain-noise", "Noise", "texture", "noise in one band", k.FROM(3000), k.EDGE(1.6), level=-20),
    carrier("noise-riser", "Noise riser", "movement", "noise that climbs and swells",
            k.FROM(250), k.TO(9000), k.CURVE(2), rise=True),
    carrier("tone-riser", "Tone riser", "movement", "a saw sliding up two octaves",
            k.OCTAVES(2), k.CURVE(1.4), k.NOISY(0.12), low=45, high=69, level=-17, rise=True),
    carrier("pulse-riser", "Pulse riser", "movement", "pulses that come faster and faster",
            k.PULSES(24), k.CURVE(1.2), k.TO(7000), level=-15, rise=True),
    carrier("falling-sweep", "Falling sweep", "movement", "noise that sinks away after the one",
            k.FROM(9000), k.TO(180), k.CURVE(0.7), level=-15),
    carrier("deep-impact", "Deep impact", "attack", "a blow in a hall, dark and long",
            k.BURST(0.8), k.LENGTH(0.7), k.SINK(0.12), level=-10, struck=True),
    carrier("sub-drop", "Sub drop", "weight", "a sine that sinks out of hearing",
            k.FROM(110), k.TO(30), k.SINK(0.55), k.LENGTH(1.2), level=-10, struck=True),
    carrier("reversed-swell", "Reversed swell", "movement", "a room played backwards into the one",
            k.TO(5200), k.CURVE(3.2), k.TONAL(0.35), low=48, high=72, level=-15, rise=True),
    carrier("reversed-crash", "Reversed crash", "movement", "a crash played backwards into the one",
            k.METAL(0.4), k.HISS(0.55), k.SIZE(0.71), level=-13, rise=True),
)  # fmt: skip

ATMOSPHERE = (
    place("rain", "Rain", "rain on a roof", k.DROPS(90), k.DROP_LEVEL(0.5), k.HIGH_EDGE(6500)),
    place("sea", "Sea", "slow waves", k.SWELLS(8), k.LOW_EDGE(120), k.HIGH_EDGE(1800)),
    place("crackle", "Crackle", "an old record between songs", k.DROPS(9), k.DROP_LEVEL(1.0)),
    place("static", "Static", "a set between stations", k.SWELLS(2.7), k.HIGH_EDGE(5200)),
    place("crowd", "Crowd", "many people talking, no words", k.TALK(3.2), level=-20),
    place("night-insects", "Night insects", "a garden after dark", k.INSECT(4300), k.PACE(31), level=-24),
)  # fmt: skip

SOUNDS = DRUMS + LOW_END + CHORDS + LEADS + VOICES + EFFECTS + ATMOSPHERE

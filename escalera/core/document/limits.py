"""Limits of a song, one table. Messages quote them."""

from __future__ import annotations

MIN_TEMPO_BPM, MAX_TEMPO_BPM = 30.0, 300.0
MAX_BARS = 999
MAX_SECTIONS = 400
MAX_LAYERS = 64
MAX_NAME = 80
MAX_TITLE = 120
MAX_NOTES = 200_000
MIN_LEVEL_DB, MAX_LEVEL_DB = -60.0, 12.0
MIN_FILTER_HZ, MAX_FILTER_HZ = 20.0, 20_000.0
MAX_SHIFT_SEMITONES = 24
MAX_DUCK_DB = 36.0
MAX_CHAIN = 12
MAX_STACK = 6
MAX_POINTS = 256
MAX_THROWS = 64
MAX_RECIPE = 4000
MAX_REASON = 300
MAX_PARKED = 24  # bodies at one section
PUSHES = (0, 160, 240, 320, 480, 960)  # ticks by which chords may come early
MAX_EARLY_TICKS = 960
MAX_PASSES = 32
TUNING_HZ = (415.0, 466.2)
MAX_TUNED_DOWN = 7
MAX_CAPO = 11
SWING_TICKS = (480, 240)
SWING_RATIOS = (0.5, 0.75)
MAX_GROOVES = 400
MAX_WORDS = 100
MAX_ACCEPTED = 400
MAX_REMARK, MAX_REMARKS = 400, 500  # characters of one; how many a song keeps
MAX_SEND_DB = 6.0
MAX_LANE = 120  # characters of a parameter's path
MAX_SAMPLE_S = 3600.0  # a recording longer than that is refused
MAX_TAKE_NOTES = 1000  # of a take
MAX_PACKED = 16_000  # characters of packed levels or onsets
MAX_BEATS = 4000
MAX_CLIPS = 240  # of a layer; a note says which by its number
MAX_SAMPLES = 400  # of a song
MAX_TAKES = 400  # of a song
MAX_LYRIC = 10_000  # characters of one version of a section's words
MAX_LYRICS = 24  # versions of a section's words
MAX_MOMENTS = 64  # tied to words of a section
MAX_OWN_WORDS = 1000
MAX_TICK = 960 * 4 * 999 * 4

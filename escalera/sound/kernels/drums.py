"""Drum sounds: each kernel adds one hit to `left` (and `right` when the sound is stereo).

Signature: (left, right, hold_samples, freq_hz, gain, seed). The arrays' length is the whole hit; the last
128 samples fade to exact zero.
"""

import numpy as np
from numba import njit

RATE = 44100.0
VOICE = "void(float32[::1], float32[::1], int64, float64, float64, int64)"
OPTIONS = {"cache": True, "nogil": True, "fastmath": True}


@njit(inline="always")
def noise(state):
    """One step of xorshift; returns the state and a value in -1..1."""
    state ^= (state << np.uint64(13)) & np.uint64(0xFFFFFFFFFFFFFFFF)
    state ^= state >> np.uint64(7)
    state ^= (state << np.uint64(17)) & np.uint64(0xFFFFFFFFFFFFFFFF)
    return state, (np.float64(state >> np.uint64(11)) / 4503599627370496.0) - 1.0


@njit(inline="always")
def seeded(seed, channel):
    return np.uint64((seed * 2 + channel + 1) * 2654435761 % 4294967291 + 88172645463325252)


@njit(inline="always")
def end_fade(i, n):
    left = n - 1 - i
    return left / 128.0 if left < 128 else 1.0


@njit(VOICE, **OPTIONS)
def round_kick(left, right, hold, freq, gain, seed):
    """A sine falling from 165 to 49 Hz, with a soft click."""
    n, phase, state = len(left), 0.0, seeded(seed, 0)
    sweep, body, click = 1.0, 1.0, 1.0
    k_sweep, k_body, k_click = np.exp(-1 / (0.028 * RATE)), np.exp(-1 / (0.19 * RATE)), np.exp(-1 / (0.003 * RATE))
    low = 0.0
    for i in range(n):
        phase += (49.0 + 116.0 * sweep) / RATE
        state, hiss = noise(state)
        low += 0.35 * (hiss * click - low)
        attack = i / 40.0 if i < 40 else 1.0
        left[i] += gain * end_fade(i, n) * (0.95 * body * attack * np.sin(2 * np.pi * phase) + 0.22 * low)
        sweep *= k_sweep
        body *= k_body
        click *= k_click


@njit(VOICE, **OPTIONS)
def room_snare(left, right, hold, freq, gain, seed):
    """Two head modes and the rattle of the wires; the rattle fills both sides."""
    n = len(left)
    for channel in range(2):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 7)
        tone, wires, low1, low2, band = 1.0, 1.0, 0.0, 0.0, 0.0
        k_tone, k_wires = np.exp(-1 / (0.065 * RATE)), np.exp(-1 / (0.095 * RATE))
        for i in range(n):
            state, own = noise(state)
            shared, both = noise(shared)
            hiss = 0.8 * both + 0.6 * own
            low1 += 0.10 * (hiss - low1)  # one-pole pairs shape the rattle to about 900–7000 Hz
            band = hiss - low1
            low2 += 0.62 * (band - low2)
            t = i / RATE
            head = np.sin(2 * np.pi * 187.0 * t) + 0.55 * np.sin(2 * np.pi * 331.0 * t)
            attack = i / 20.0 if i < 20 else 1.0
            out[i] += gain * end_fade(i, n) * attack * (0.34 * tone * head + 0.85 * wires * low2)
            tone *= k_tone
            wires *= k_wires


@njit(VOICE, **OPTIONS)
def loose_clap(left, right, hold, freq, gain, seed):
    """Three hands a few milliseconds apart, then the room; the hands differ left and right."""
    n = len(left)
    for channel in range(2):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 5)
        low, band, second = 0.0, 0.0, 0.012 + 0.003 * channel
        for i in range(n):
            state, own = noise(state)
            shared, both = noise(shared)
            t = i / RATE
            env = 0.75 * np.exp(-t / 0.005)
            if t >= second:
                env += 0.85 * np.exp(-(t - second) / 0.005)
            if t >= 0.024:
                env += np.exp(-(t - 0.024) / 0.075)
            f = 2 * np.sin(np.pi * 1350.0 / RATE)  # state-variable band-pass, stable at this centre
            high = 0.6 * own + 0.8 * both - low - 0.9 * band
            band += f * high
            low += f * band
            attack = i / 16.0 if i < 16 else 1.0
            out[i] += gain * end_fade(i, n) * attack * 0.95 * env * band


@njit(inline="always")
def metal(i, spread):
    """Six square partials of a cymbal."""
    t = i / RATE
    total = 0.0
    for ratio in (2017.0, 2671.0, 3329.0, 4079.0, 5333.0, 6151.0):
        phase = ratio * spread * t
        total += 1.0 if phase - np.floor(phase) < 0.5 else -1.0
    return total / 6.0


@njit(inline="always")
def hat(left, gain, seed, decay_s, level):
    n, state = len(left), seeded(seed, 0)
    k, env, low, last = np.exp(-1 / (decay_s * RATE)), 1.0, 0.0, 0.0
    for i in range(n):
        state, hiss = noise(state)
        x = 0.55 * hiss + 0.6 * metal(i, 1.0)
        low += 0.58 * (x - low)
        high = x - low
        y = high - 0.75 * last  # a second zero near zero hertz keeps the hat out of the voice's range
        last = high
        attack = i / 12.0 if i < 12 else 1.0
        left[i] += gain * level * end_fade(i, n) * attack * env * y
        env *= k


@njit(VOICE, **OPTIONS)
def tin_hat(left, right, hold, freq, gain, seed):
    """A closed hat."""
    hat(left, gain, seed, 0.034, 0.85)


@njit(VOICE, **OPTIONS)
def open_tin_hat(left, right, hold, freq, gain, seed):
    """An open hat; a shorter hold (a closing hat) damps it within ten milliseconds."""
    n = len(left)
    for channel in range(2):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 3)
        k, env, low, last, damp = np.exp(-1 / (0.20 * RATE)), 1.0, 0.0, 0.0, 1.0
        k_damp = np.exp(-1 / (0.010 * RATE))
        for i in range(n):
            state, own = noise(state)
            shared, both = noise(shared)
            x = 0.2 * own + 0.45 * both + 0.6 * metal(i, 1.02)
            low += 0.58 * (x - low)
            high = x - low
            y = high - 0.75 * last
            last = high
            if i > hold:
                damp *= k_damp
            attack = i / 16.0 if i < 16 else 1.0
            out[i] += gain * 0.72 * end_fade(i, n) * attack * env * damp * y
            env *= k


@njit(VOICE, **OPTIONS)
def wide_crash(left, right, hold, freq, gain, seed):
    """A crash whose hiss differs on both sides."""
    n = len(left)
    for channel in range(2):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 11)
        slow, fast, low = 1.0, 1.0, 0.0
        k_slow, k_fast = np.exp(-1 / (0.62 * RATE)), np.exp(-1 / (0.08 * RATE))
        for i in range(n):
            state, own = noise(state)
            shared, both = noise(shared)
            x = 0.55 * own + 0.45 * both + 0.4 * metal(i, 0.71 + 0.02 * channel)
            low += 0.30 * (x - low)
            attack = i / 30.0 if i < 30 else 1.0
            out[i] += gain * 0.42 * end_fade(i, n) * attack * (slow + 0.6 * fast) * (x - low)
            slow *= k_slow
            fast *= k_fast


@njit(VOICE, **OPTIONS)
def seed_shaker(left, right, hold, freq, gain, seed):
    """Seeds gathering and falling: a swell of 18 ms, then a short decay, round 5–9 kHz."""
    n, state = len(left), seeded(seed, 0)
    low, band = 0.0, 0.0
    f = 2 * np.sin(np.pi * 6300.0 / RATE)
    for i in range(n):
        state, hiss = noise(state)
        t = i / RATE
        env = (t / 0.018) ** 1.5 if t < 0.018 else np.exp(-(t - 0.018) / 0.030)
        high = hiss - low - 0.8 * band
        band += f * high
        low += f * band
        left[i] += gain * 0.42 * end_fade(i, n) * env * band

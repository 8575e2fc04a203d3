"""Pitched sounds: each kernel adds one note to `left` (and `right` when the sound is stereo).

Signature: (left, right, hold_samples, freq_hz, gain, seed). The arrays' length is hold plus release; the
envelope reaches exact zero at the last sample. Saw edges are smoothed by polyBLEP (Välimäki and Huovilainen,
"Antialiasing oscillators in subtractive synthesis", 2007); filters are trapezoidal state-variable filters
(Zavalishin, "The art of VA filter design").
"""

import numpy as np
from numba import njit

RATE = 44100.0
VOICE = "void(float32[::1], float32[::1], int64, float64, float64, int64)"
# Least-squares fit of sin(2πx) on -0.5..0.5 by odd powers up to x⁹; largest error 6e-6, far below any partial
C1, C3, C5, C7, C9 = 6.28305406, -41.33112111, 81.3654677, -74.47078941, 32.76852614
OPTIONS = {"cache": True, "nogil": True, "fastmath": True}


@njit(inline="always")
def noise(state):
    state ^= (state << np.uint64(13)) & np.uint64(0xFFFFFFFFFFFFFFFF)
    state ^= state >> np.uint64(7)
    state ^= (state << np.uint64(17)) & np.uint64(0xFFFFFFFFFFFFFFFF)
    return state, (np.float64(state >> np.uint64(11)) / 4503599627370496.0) - 1.0


@njit(inline="always")
def seeded(seed, channel):
    return np.uint64((seed * 2 + channel + 1) * 2654435761 % 4294967291 + 88172645463325252)


@njit(inline="always")
def sine(turns):
    """sin(2π turns) by a polynomial of ninth degree, within 6e-6."""
    x = turns - np.floor(turns + 0.5)
    q = x * x
    return x * (C1 + q * (C3 + q * (C5 + q * (C7 + q * C9))))


@njit(inline="always")
def saw(phase, step):
    """A saw in -1..1 at phase 0..1, edge smoothed over one sample on either side."""
    value = 2.0 * phase - 1.0
    if phase < step:
        x = phase / step
        value -= x + x - x * x - 1.0
    elif phase > 1.0 - step:
        x = (phase - 1.0) / step
        value -= x * x + x + x + 1.0
    return value


@njit(inline="always")
def swell(i, n, hold, attack):
    """Attack, full hold, and a release to exact zero with the shape of a falling square."""
    rise = i / attack if i < attack else 1.0
    if i < hold:
        return rise
    share = (n - 1 - i) / max(1, n - 1 - hold)
    return rise * share * share


@njit(VOICE, **OPTIONS)
def sub_sine(left, right, hold, freq, gain, seed):
    """A sine with a trace of its octave, so that small speakers hint at it."""
    n, step, phase = len(left), freq / RATE, 0.0
    for i in range(n):
        env = swell(i, n, hold, 350.0)
        left[i] += gain * 0.62 * env * (sine(phase) + 0.07 * sine(2 * phase))
        phase += step
        if phase >= 1.0:
            phase -= 1.0


@njit(VOICE, **OPTIONS)
def plucked_bass(left, right, hold, freq, gain, seed):
    """A saw and its octave below a closing low-pass: the pluck of a string with weight under it."""
    n, step, phase = len(left), freq / RATE, 0.25
    s1, s2, env = 0.0, 0.0, 1.0
    decay = np.exp(-1 / (0.55 * RATE))
    g, k = 0.0, 1.1
    for i in range(n):
        if i % 16 == 0:
            cutoff = min(freq * (1.6 + 9.0 * np.exp(-i / RATE / 0.075)), 9000.0)
            g = np.tan(np.pi * cutoff / RATE)
        x = 0.6 * saw(phase, step) + 0.75 * sine(phase)
        a = 1.0 / (1.0 + g * (g + k))
        band = a * (s1 + g * (x - s2))
        low = s2 + g * band
        s1, s2 = 2 * band - s1, 2 * low - s2
        left[i] += gain * 0.62 * env * swell(i, n, hold, 60.0) * low
        env *= decay
        phase += step
        if phase >= 1.0:
            phase -= 1.0


@njit(VOICE, **OPTIONS)
def wide_saws(left, right, hold, freq, gain, seed):
    """Seven saws, detuned evenly by up to 14 cents, spread from side to side."""
    n = len(left)
    for voice in range(7):
        place = (voice - 3) / 3.0
        step = freq * 2.0 ** (place * 14.0 / 1200.0) / RATE
        phase = (0.137 * voice * voice + 0.29 * voice) % 1.0
        side = (0.5 + 0.45 * abs(place)) * (0.0 if voice == 3 else (1.0 if voice % 2 else -1.0))
        gl, gr = gain * 0.17 * np.sqrt(0.5 - 0.5 * side), gain * 0.17 * np.sqrt(0.5 + 0.5 * side)
        for i in range(n):
            y = swell(i, n, hold, 700.0) * saw(phase, step)
            left[i] += gl * y
            right[i] += gr * y
            phase += step
            if phase >= 1.0:
                phase -= 1.0


@njit(VOICE, **OPTIONS)
def soft_pad(left, right, hold, freq, gain, seed):
    """Two slow detuned saws a side below a gentle low-pass that breathes once in the note."""
    n = len(left)
    for channel in range(2):
        out = left if channel == 0 else right
        sign = -1.0 if channel == 0 else 1.0
        step1, step2 = freq * 2 ** (sign * 5 / 1200) / RATE, freq * 2 ** (-sign * 2.5 / 1200) / RATE
        p1, p2, s1, s2, g = 0.1 + 0.3 * channel, 0.6 - 0.2 * channel, 0.0, 0.0, 0.1
        for i in range(n):
            if i % 16 == 0:
                cutoff = min(420.0 + freq * 1.8 + 380.0 * np.sin(2 * np.pi * (i / RATE / 5.3 + 0.25 * channel)), 9000.0)
                g = np.tan(np.pi * cutoff / RATE)
            x = saw(p1, step1) + saw(p2, step2)
            a = 1.0 / (1.0 + g * (g + 1.6))
            band = a * (s1 + g * (x - s2))
            low = s2 + g * band
            s1, s2 = 2 * band - s1, 2 * low - s2
            out[i] += gain * 0.26 * swell(i, n, hold, 9000.0) * low
            p1 += step1
            p2 += step2
            if p1 >= 1.0:
                p1 -= 1.0
            if p2 >= 1.0:
                p2 -= 1.0


@njit(VOICE, **OPTIONS)
def tine_keys(left, right, hold, freq, gain, seed):
    """Struck tines: a sine bent by its own pitch, a short ping above, a slow sway between the sides."""
    n, phase, step = len(left), 0.0, freq / RATE
    body, bark, ping = 1.0, 1.0, 1.0
    k_body = np.exp(-1 / ((0.5 + 130.0 / freq) * RATE))
    k_bark, k_ping = np.exp(-1 / (0.30 * RATE)), np.exp(-1 / (0.045 * RATE))
    sway, d_sway = 0.0, 4.6 / RATE
    ping_ratio = 14.0 if freq * 14.0 < 14000.0 else 7.0
    for i in range(n):
        y = sine(phase + (0.35 + 1.15 * bark) / (2 * np.pi) * sine(phase)) + 0.10 * ping * sine(ping_ratio * phase)
        y *= gain * 0.40 * body * swell(i, n, hold, 50.0)
        turn = 0.30 * sine(sway)
        left[i] += y * (0.92 + turn) * 0.78
        right[i] += y * (0.92 - turn) * 0.78
        body *= k_body
        bark *= k_bark
        ping *= k_ping
        phase += step
        if phase >= 1.0:
            phase -= 1.0
        sway += d_sway


@njit(VOICE, **OPTIONS)
def glass_bell(left, right, hold, freq, gain, seed):
    """Five partials of a glass bell, higher ones dying sooner and leaning to alternate sides.

    Each partial is a decaying resonator, y[n] = 2 r cos(w) y[n-1] - r² y[n-2]: no sine is computed in the loop.
    """
    n = len(left)
    for partial in range(5):
        ratio = (1.0, 2.003, 3.011, 4.21, 5.43)[partial]
        level = (1.0, 0.45, 0.30, 0.20, 0.12)[partial]
        if freq * ratio > 17000.0:
            continue
        omega, r = 2 * np.pi * freq * ratio / RATE, np.exp(-1 / ((1.1 / (1.0 + 0.9 * partial)) * RATE))
        c1, c2 = 2 * r * np.cos(omega), r * r
        y1, y2 = 0.0, -gain * 0.34 * level * np.sin(omega) / r
        lean = 0.35 * (0.0 if partial == 0 else (1.0 if partial % 2 else -1.0))
        gl, gr = (1.0 - lean) * 0.72, (1.0 + lean) * 0.72
        for i in range(n):
            y = y1
            y1, y2 = c1 * y1 - c2 * y2, y1
            y *= swell(i, n, hold, 30.0)
            left[i] += gl * y
            right[i] += gr * y


@njit(VOICE, **OPTIONS)
def plucked_lead(left, right, hold, freq, gain, seed):
    """A saw and a hollow pulse below a quickly closing low-pass; the pulse leans to the right."""
    n, step, p1, p2 = len(left), freq * 2 ** (-2.0 / 1200) / RATE, 0.0, 0.5
    step2 = freq * 2 ** (2.0 / 1200) / RATE
    env, s1, s2, t1, t2, g, k = 1.0, 0.0, 0.0, 0.0, 0.0, 0.1, 0.75
    decay = np.exp(-1 / (0.42 * RATE))
    for i in range(n):
        if i % 16 == 0:
            cutoff = min(freq * 1.3 + 7200.0 * np.exp(-i / RATE / 0.11) + 500.0, 15000.0)
            g = np.tan(np.pi * cutoff / RATE)
        x = saw(p1, step)
        half = p2 + 0.5 if p2 < 0.5 else p2 - 0.5
        z = 0.8 * (saw(p2, step2) - saw(half, step2))
        a = 1.0 / (1.0 + g * (g + k))
        band = a * (s1 + g * (x - s2))
        low = s2 + g * band
        s1, s2 = 2 * band - s1, 2 * low - s2
        band2 = a * (t1 + g * (z - t2))
        low2 = t2 + g * band2
        t1, t2 = 2 * band2 - t1, 2 * low2 - t2
        level = gain * 0.30 * env * swell(i, n, hold, 40.0)
        left[i] += level * (low + 0.35 * low2)
        right[i] += level * (low + 0.65 * low2)
        env *= decay
        p1 += step
        p2 += step2
        if p1 >= 1.0:
            p1 -= 1.0
        if p2 >= 1.0:
            p2 -= 1.0


@njit(VOICE, **OPTIONS)
def vowel_voice(left, right, hold, freq, gain, seed):
    """A sung 'ah': a soft pulse through three formants, with breath and a late vibrato of ±22 cents."""
    n, phase, state = len(left), 0.0, seeded(seed, 0)
    a1, b1, a2, b2, a3, b3 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    g1 = np.tan(np.pi * max(730.0, freq * 1.02) / RATE)
    g2, g3 = np.tan(np.pi * 1180.0 / RATE), np.tan(np.pi * 2750.0 / RATE)
    k1, k2, k3 = 0.22, 0.16, 0.12
    h1, h2, h3 = 1 / (1 + g1 * (g1 + k1)), 1 / (1 + g2 * (g2 + k2)), 1 / (1 + g3 * (g3 + k3))
    tilt, step = 0.0, freq / RATE
    for i in range(n):
        if i % 16 == 0:
            t = i / RATE
            depth = min(1.0, max(0.0, (t - 0.25) / 0.5))
            step = freq * 2.0 ** (22.0 * depth * np.sin(2 * np.pi * 5.3 * t) / 1200.0) / RATE
        state, breath = noise(state)
        tilt += 0.45 * (saw(phase, step) - tilt)
        x = tilt + 0.05 * breath
        v = h1 * (a1 + g1 * (x - b1))
        w = b1 + g1 * v
        a1, b1 = 2 * v - a1, 2 * w - b1
        v2 = h2 * (a2 + g2 * (x - b2))
        w2 = b2 + g2 * v2
        a2, b2 = 2 * v2 - a2, 2 * w2 - b2
        v3 = h3 * (a3 + g3 * (x - b3))
        w3 = b3 + g3 * v3
        a3, b3 = 2 * v3 - a3, 2 * w3 - b3
        y = 0.50 * k1 * v * 2 + 0.42 * k2 * v2 * 2 + 0.30 * k3 * v3 * 2 + 0.16 * tilt
        left[i] += gain * 0.85 * swell(i, n, hold, 2600.0) * y
        phase += step
        if phase >= 1.0:
            phase -= 1.0


@njit(VOICE, **OPTIONS)
def noise_riser(left, right, hold, freq, gain, seed):
    """Noise through a band-pass that climbs from 250 Hz to 9 kHz while it swells, different on both sides."""
    n = len(left)
    for channel in range(2):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 13)
        s1, s2, g, level = 0.0, 0.0, 0.1, 0.0
        for i in range(n):
            if i % 16 == 0:
                share = min(1.0, i / max(1, hold))
                g = np.tan(np.pi * 250.0 * 36.0**share / RATE)
                level = 0.03 + 0.97 * share * share
            state, own = noise(state)
            shared, both = noise(shared)
            a = 1.0 / (1.0 + g * (g + 0.7))
            band = a * (s1 + g * (0.6 * own + 0.55 * both - s2))
            low = s2 + g * band
            s1, s2 = 2 * band - s1, 2 * low - s2
            out[i] += gain * 0.62 * level * swell(i, n, hold, 400.0) * band

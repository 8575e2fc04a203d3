"""Oscillator sounds: saws through a filter, a gliding line, and sines that bend sines.

Saw edges are smoothed by polyBLEP (Välimäki and Huovilainen, "Antialiasing oscillators in subtractive synthesis",
2007); filters are trapezoidal state-variable filters (Zavalishin, "The art of VA filter design"); phase modulation
after Chowning (1973). Kernels name their parameters in the order in which `voices` hands them over.
"""

import numpy as np
from numba import njit

from escalera.sound.kernels.parts import OPTIONS, RATE, VOICE, A, bounded, fall, noise, saw, seeded, sine, swell, warp


@njit(inline="always")
def smooth_saw(phase, step):
    """As `saw`, for any phase and without a branch, so that a block of samples is computed at once."""
    phase -= np.floor(phase)
    after, before = max(0.0, 1.0 - phase / step), max(0.0, 1.0 - (1.0 - phase) / step)
    return 2.0 * phase - 1.0 + after * after - before * before


# Where up to seven voices start: chosen by search so that however many begin together, no harmonic vanishes or towers
STARTS = np.array([0.095, 0.028, 0.847, 0.42, 0.351, 0.889, 0.025])


@njit(VOICE, **OPTIONS)
def saws(left, right, hold, freq, gain, seed, p):
    """Detuned saws or pulses with a sine below, through a low-pass with an envelope and a slow movement."""
    count, detune, spread, pulse, sub, sub_octave, hiss_level = int(p[0]), p[1], p[2], p[3], p[4], p[5], p[6]
    cutoff_ratio, cutoff_hz, sweep_hz, sweep_s, damp = p[7], p[8], p[9], p[10], p[11]
    wobble_hz, wobble, attack_s, decay_s, sustain = p[12], p[13], p[14], p[15], p[16]
    vibrato_hz, vibrato, drive, stereo, level, opening = p[17], p[18], p[19], p[20], p[21], p[22]
    n, sides = len(left), 2 if stereo > 0.5 else 1
    mix, wave = np.zeros((sides, n)), np.empty(16)
    bend = np.ones(-(-n // 16))
    for k in range(len(bend)):
        t = k * 16.0 / RATE
        late = min(1.0, max(0.0, (t - 0.2) / 0.4))
        bend[k] = 2.0 ** (vibrato * late * np.sin(2 * np.pi * vibrato_hz * t) / 1200.0)
    for voice in range(count):
        place = (2.0 * voice - (count - 1)) / max(1, count - 1)
        base = freq * 2.0 ** (place * detune / 1200.0) / RATE
        phase = STARTS[voice % 7]
        side = spread * (0.5 + 0.5 * abs(place)) * (0.0 if place == 0.0 else (1.0 if voice % 2 else -1.0))
        amp = 1.0 / np.sqrt(count)
        gl, gr = amp * np.sqrt(0.5 - 0.5 * side) * 1.414, amp * np.sqrt(0.5 + 0.5 * side) * 1.414
        for k in range(len(bend)):
            step = base * bend[k]
            for j in range(16):
                wave[j] = smooth_saw(phase + step * j, step)
            if pulse > 0.0:
                for j in range(16):
                    wave[j] = wave[j] - pulse * smooth_saw(phase + 0.5 + step * j, step)
            phase = (phase + 16 * step) % 1.0
            low, high = k * 16, min(n, k * 16 + 16)
            part = mix[0, low:high]
            if sides == 2:
                other = mix[1, low:high]
                for j in range(high - low):
                    part[j] += gl * wave[j]
                    other[j] += gr * wave[j]
            else:
                for j in range(high - low):
                    part[j] += amp * wave[j]
    low_step, attack = freq * (0.5 if sub_octave > 0.5 else 1.0) / RATE, max(8.0, attack_s * RATE)
    k_sweep, k_decay, push = fall(sweep_s), fall(decay_s), 1.0 + 6.0 * drive
    state1, state2, y1, y2, w1, w2 = seeded(seed, 0), seeded(seed, 1), 0.0, 0.0, 0.0, 0.0
    e_sweep, e_decay, rest1, rest2 = 1.0, 1.0, 0.0, 0.0
    for k in range(len(bend)):
        t = k * 16.0 / RATE
        env = (1.0 - e_sweep) if opening > 0.5 else e_sweep
        open_hz = freq * cutoff_ratio + cutoff_hz + sweep_hz * env
        g = warp(open_hz * 2.0 ** (wobble * np.sin(2 * np.pi * wobble_hz * t)))
        a = 1.0 / (1.0 + g * (g + damp))
        h, b = g, a
        if sides == 2 and wobble > 0.0:  # the sides move a little apart
            h = warp(open_hz * 2.0 ** (wobble * np.sin(2 * np.pi * (wobble_hz * t + 0.25 * spread))))
            b = 1.0 / (1.0 + h * (h + damp))
        for i in range(k * 16, min(n, k * 16 + 16)):
            low = sub * sine(low_step * i) if sub > 0.0 else 0.0
            level_now = gain * level * (sustain + (1.0 - sustain) * e_decay) * swell(i, n, hold, attack)
            x = mix[0, i] + low
            if hiss_level > 0.0:
                state1, hiss = noise(state1)
                x += hiss_level * hiss
            if sides == 2:  # both chains in one loop, so that the processor works on them together
                z = mix[1, i] + low
                if hiss_level > 0.0:
                    state2, hiss = noise(state2)
                    z += hiss_level * hiss
                band, band2 = a * (y1 + g * (x - y2)), b * (w1 + h * (z - w2))
                y, w = y2 + g * band, w2 + h * band2
                y1, w1, y2, w2 = 2 * band - y1, 2 * band2 - w1, 2 * y - y2, 2 * w - w2
                if drive > 0.0:
                    w = bounded(push * w) / bounded(push)
                    rest2 += 0.0015 * (w - rest2)
                    w -= rest2
                right[i] += level_now * w
            else:
                band = a * (y1 + g * (x - y2))
                y = y2 + g * band
                y1, y2 = 2 * band - y1, 2 * y - y2
            if drive > 0.0:
                y = bounded(push * y) / bounded(push)
                rest1 += 0.0015 * (y - rest1)  # what saturation leaves of a lopsided wave as an offset
                y -= rest1
            left[i] += level_now * y
            e_decay *= k_decay
            e_sweep *= k_sweep


@njit(f"void({A}, int64, float64[::1], float64, int64, float64[::1])", **OPTIONS)
def gliding(out, hold, hz, gain, seed, p):
    """One phrase of a mono line; `hz` holds its pitch for every 16 samples, so that overlapping notes slide."""
    sub, cutoff_ratio, cutoff_hz, damp, drive, level = p[0], p[1], p[2], p[3], p[4], p[5]
    n, phase, z1, z2, push, rest = len(out), 0.0, 0.0, 0.0, 1.0 + 6.0 * drive, 0.0
    for k in range(len(hz)):
        step = hz[k] / RATE
        g = warp(hz[k] * cutoff_ratio + cutoff_hz)
        a = 1.0 / (1.0 + g * (g + damp))
        for i in range(k * 16, min(n, k * 16 + 16)):
            x = 0.55 * saw(phase, step) + sub * sine(phase)
            band = a * (z1 + g * (x - z2))
            y = z2 + g * band
            z1, z2 = 2 * band - z1, 2 * y - z2
            y = bounded(push * y) / bounded(push)
            rest += 0.0015 * (y - rest)
            out[i] += gain * level * swell(i, n, hold, 200.0) * (y - rest)
            phase += step
            if phase >= 1.0:
                phase -= 1.0


@njit(VOICE, **OPTIONS)
def bent(left, right, hold, freq, gain, seed, p):
    """A sine bent by another, with a short ping above and a sway between the sides; both may be moved by a slow wave."""
    ratio, index, floor, index_s, ping_ratio, ping, ping_s = p[0], p[1], p[2], p[3], p[4], p[5], p[6]
    body_s, track, attack_s, wobble_hz, wobble, sway, sway_hz = p[7], p[8], p[9], p[10], p[11], p[12], p[13]
    drive, stereo, level, below = p[14], p[15], p[16], p[17]
    n, step, push = len(left), freq / RATE, 1.0 + 6.0 * drive
    body, bark, tap = 1.0, 1.0, 1.0
    k_body = fall(body_s + track / freq) if body_s > 0 else 1.0
    k_bark, k_tap = fall(index_s), fall(ping_s)
    high = ping_ratio if freq * ping_ratio < 14000.0 else ping_ratio * 0.5
    attack = max(8.0, attack_s * RATE)
    for i in range(n):
        turn = sine(wobble_hz * i / RATE)
        depth = (floor + (index - floor) * bark) * (1.0 + wobble * turn)
        phase = step * i
        y = (
            sine(phase + depth / (2 * np.pi) * sine(ratio * phase))
            + ping * tap * sine(high * phase)
            + below * sine(0.5 * phase)
        )
        if drive > 0.0:
            y = bounded(push * y) / bounded(push)
        y *= gain * level * body * swell(i, n, hold, attack)
        if stereo > 0.5:
            lean = sway * sine(sway_hz * i / RATE)
            left[i] += y * (1.0 + lean)
            right[i] += y * (1.0 - lean)
        else:
            left[i] += y
        body *= k_body
        bark *= k_bark
        tap *= k_tap

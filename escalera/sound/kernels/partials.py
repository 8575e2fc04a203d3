"""Strings, bars, bells, pipes and voices: partials that ring by themselves, and pulses through formants.

A partial is a decaying resonator, y[n] = 2 r cos(w) y[n-1] - r² y[n-2]: no sine is computed in the loop.
A plucked string's partial k has the weight sin(k π position) / k (Fletcher and Rossing, "The physics of musical
instruments"); stiffness stretches it by sqrt(1 + B k²).
"""

import numpy as np
from numba import njit

from escalera.sound.kernels.parts import OPTIONS, RATE, VOICE, noise, saw, seeded, swell, warp

SILENT = 1e-10  # 200 dB down: what dies away is followed no further, where it would end in denormals
# Ratios of partials by body: string, glass, wooden bar, comb of steel, pipes
RATIOS = np.array([
    [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20],
    [1, 2.003, 3.011, 4.21, 5.43, 6.79, 8.21, 9.7, 11.3, 13, 14.8, 16.7, 0, 0, 0, 0, 0, 0, 0, 0],
    [1, 3.98, 9.9, 16.2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0],
    [1, 6.27, 17.55, 2.0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0],
    [0.5, 1, 1.5, 2, 3, 4, 5, 6, 8, 10, 12, 16, 0, 0, 0, 0, 0, 0, 0, 0],
])  # fmt: skip
# First two formants and the third, in Hz, of a, e, i, o, u as sung (averages of published vowel charts)
FORMANTS = np.array([[730.0, 1180, 2750], [500, 1850, 2600], [300, 2250, 3000], [460, 850, 2650], [330, 750, 2500]])


@njit(["void(float64[:, ::1], float64[::1], float64[::1])"], **OPTIONS)
def ring_two(ring, one, other):
    """Add two resonators to a ring of one side or two; the steps of one wait for one another, those of both do not.

    Each is (2 r cos w, r², the value before the first, its place -1..1, how many samples it is heard).
    """
    long, short = (one, other) if one[4] >= other[4] else (other, one)
    c1, c2, y2, turn, last = long[0], long[1], long[2], long[3], int(long[4])
    d1, d2, z2, bend, both = short[0], short[1], short[2], short[3], int(short[4])
    left, right, y1, z1 = ring[0], ring[-1], 0.0, 0.0
    for i in range(both):
        y, z = y1, z1
        y1, y2, z1, z2 = c1 * y1 - c2 * y2, y1, d1 * z1 - d2 * z2, z1
        left[i] += (1.0 - turn) * y + (1.0 - bend) * z
        if len(ring) == 2:
            right[i] += (1.0 + turn) * y + (1.0 + bend) * z
    for i in range(both, last):
        y = y1
        y1, y2 = c1 * y1 - c2 * y2, y1
        left[i] += (1.0 - turn) * y
        if len(ring) == 2:
            right[i] += (1.0 + turn) * y


@njit(VOICE, **OPTIONS)
def partials(left, right, hold, freq, gain, seed, p):
    """Partials of a struck, plucked or blown body, with a hammer's noise; unison strings beat about the pitch."""
    body, count, slope, strike, stiff = int(p[0]), int(p[1]), p[2], p[3], p[4]
    ring_s, track, damping, held, hammer, hammer_s, hammer_hz = p[5], p[6], p[7], p[8], p[9], p[10], p[11]
    unison, lean, attack_s, odd, level, stereo = p[12], p[13], p[14], p[15], p[16], p[17]
    n, attack, sides = len(left), max(8.0, attack_s * RATE), 2 if stereo > 0.5 else 1
    ring = np.zeros((sides, n))
    strings = 2 if unison > 0.0 else 1
    rows, resonators, total = 0, np.zeros((2 * count + 1, 5)), 0.0
    for k in range(count):
        ratio = RATIOS[body, k]
        if ratio == 0.0:
            break
        hz = freq * ratio * (np.sqrt(1.0 + stiff * ratio * ratio) / np.sqrt(1.0 + stiff) if body == 0 else 1.0)
        weight = (k + 1.0) ** -slope * (abs(np.sin(np.pi * (k + 1) * strike)) if strike > 0 else 1.0)
        if (k + 1) % 2 == 0:
            weight *= 1.0 - odd
        if hz > 16500.0 or weight < 1e-4:
            continue
        total += weight * weight
        seconds = 1e6 if held > 0.5 else (ring_s + track / freq) / (1.0 + damping * (ratio - 1.0))
        for string in range(strings):
            # the two strings die at different speeds: a loud start, then a long quiet tail; weighed by how long they
            # sound, their pitches lie evenly about the note's
            sign = 0.0 if strings == 1 else (0.65 if string else -1.35)
            omega = 2 * np.pi * hz * 2.0 ** (sign * unison / 1200.0) / RATE
            r = np.exp(-1.0 / (seconds * (1.0 if strings == 1 else (1.35 if string else 0.65)) * RATE))
            c1, c2 = 2 * r * np.cos(omega), r * r
            turn = lean * (0.0 if k == 0 else (1.0 if k % 2 else -1.0)) + 0.5 * lean * sign
            heard = n if held > 0.5 else min(n, int(np.log(SILENT / weight) / np.log(r)) + 1)
            row = resonators[rows]
            row[0], row[1], row[2], row[3], row[4] = c1, c2, -weight * np.sin(omega) / r / strings, turn, heard
            rows += 1
    for first in range(0, rows, 2):  # the last of an odd number has a silent one beside it
        ring_two(ring, resonators[first], resonators[first + 1])
    scale = gain * level / np.sqrt(max(total, 1e-9))
    g, z1, z2, state, tap = warp(hammer_hz), 0.0, 0.0, seeded(seed, 0), 1.0
    a, k_tap = 1.0 / (1.0 + g * (g + 0.9)), np.exp(-1.0 / (hammer_s * RATE))
    for i in range(n):
        thud = 0.0
        if hammer > 0.0 and tap > SILENT:
            state, hiss = noise(state)
            band = a * (z1 + g * (hiss * tap - z2))
            low = z2 + g * band
            z1, z2 = 2 * band - z1, 2 * low - z2
            thud, tap = hammer * band, tap * k_tap
        env = swell(i, n, hold, attack)
        left[i] += scale * env * (ring[0, i] + thud)
        if sides == 2:
            right[i] += scale * env * (ring[1, i] + thud)


@njit(VOICE, **OPTIONS)
def throat(left, right, hold, freq, gain, seed, p):
    """A sung vowel: soft pulses and breath through three formants, with a late vibrato; several singers when stacked."""
    vowel, to_vowel, breath, vibrato_hz, vibrato, attack_s = p[0], p[1], p[2], p[3], p[4], p[5]
    count, detune, spread, level, bright = int(p[6]), p[7], p[8], p[9], p[10]
    n, attack = len(left), max(64.0, attack_s * RATE)
    for singer in range(count):
        place = (2.0 * singer - (count - 1)) / max(1, count - 1)
        base = freq * 2.0 ** (place * detune / 1200.0)
        side = spread * place
        amp = gain * level / np.sqrt(count)
        gl, gr = amp * np.sqrt(1.0 - side), amp * np.sqrt(1.0 + side)
        state, phase, tilt = seeded(seed, singer), (0.31 * singer) % 1.0, 0.0
        a1, b1, a2, b2, a3, b3 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        k1, k2, k3, t1, t2, t3, l1, l2, l3, step = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, base / RATE
        for i in range(n):
            if i % 32 == 0:
                t = i / RATE
                late = min(1.0, max(0.0, (t - 0.25) / 0.5))
                turn = np.sin(2 * np.pi * (vibrato_hz * (1.0 + 0.07 * place) * t + 0.2 * singer))
                step = base * 2.0 ** (vibrato * late * turn / 1200.0) / RATE
                at = vowel + (to_vowel - vowel) * min(1.0, t / 0.18)
                lower = min(3, max(0, int(at)))
                share = min(1.0, at - lower)
                here, there = FORMANTS[lower], FORMANTS[lower + 1]
                g1 = warp(max(here[0] * (1.0 - share) + there[0] * share, base * 1.02))
                g2 = warp(here[1] * (1.0 - share) + there[1] * share)
                g3 = warp(here[2] * (1.0 - share) + there[2] * share)
                h1, h2, h3 = 2 / (1 + g1 * (g1 + 0.22)), 2 / (1 + g2 * (g2 + 0.16)), 2 / (1 + g3 * (g3 + 0.12))
                k1, k2, k3, t1, t2, t3 = h1 - 1.0, h2 - 1.0, h3 - 1.0, h1 * g1, h2 * g2, h3 * g3
                l1, l2, l3 = t1 * g1, t2 * g2, t3 * g3
            state, air = noise(state)
            tilt += bright * (saw(phase, step) - tilt)
            x = tilt + breath * air
            d1, d2, d3 = x - b1, x - b2, x - b3  # each formant's next state straight from its last one
            u, v, w = k1 * a1 + t1 * d1, k2 * a2 + t2 * d2, k3 * a3 + t3 * d3
            y = 0.16 * tilt + 0.11 * (a1 + u) + 0.064 * (a2 + v) + 0.036 * (a3 + w)
            b1, b2, b3 = (b1 + t1 * a1) + l1 * d1, (b2 + t2 * a2) + l2 * d2, (b3 + t3 * a3) + l3 * d3
            a1, a2, a3 = u, v, w
            y *= swell(i, n, hold, attack)
            if spread > 0.0:
                left[i] += gl * y
                right[i] += gr * y
            else:
                left[i] += amp * y
            phase += step
            if phase >= 1.0:
                phase -= 1.0

"""Air and places: sweeps that carry joins, and textures that lie under a song."""

import numpy as np
from numba import njit

from escalera.sound.kernels.parts import OPTIONS, RATE, VOICE, fall, noise, saw, seeded, struck, swell, warp


@njit(VOICE, **OPTIONS)
def sweep(left, right, hold, freq, gain, seed, p):
    """Noise and a saw gliding from one frequency to another while their level follows a curve; may pulse faster and faster."""
    from_hz, to_hz, damp, from_level, to_level, curve, hiss_level = p[0], p[1], p[2], p[3], p[4], p[5], p[6]
    tone, octaves, pulses, attack_s, level, apart = p[7], p[8], p[9], p[10], p[11], p[12]
    n = len(left)
    for channel in range(2):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 13)
        z1, z2, g, amount, phase, step, beat, last = 0.0, 0.0, 0.1, 0.0, 0.3 * channel, freq / RATE, 0.0, 0.0
        a, attack = 0.5, max(8.0, attack_s * RATE)
        for i in range(n):
            if i % 16 == 0:
                share = min(1.0, i / max(1, hold))
                g = warp(from_hz * (to_hz / from_hz) ** share)
                a = 1.0 / (1.0 + g * (g + damp))
                amount = from_level + (to_level - from_level) * share**curve
                step = min(0.45, freq * (1.0 + 0.004 * (2 * channel - 1)) * 2.0 ** (octaves * share) / RATE)
                if pulses > 0.0:  # the number of pulses passed so far grows with the square of time
                    beat = pulses * share * (0.25 + 0.75 * share)
                    wanted = 0.15 + 0.85 * (0.5 - 0.5 * np.cos(2 * np.pi * beat))
                    amount *= wanted
            last += 0.02 * (amount - last)
            state, own = noise(state)
            shared, both = noise(shared)
            x = hiss_level * (apart * own + (1.0 - 0.45 * apart) * both)
            if tone > 0.0:
                x += tone * saw(phase, step)
                phase += step
                if phase >= 1.0:
                    phase -= 1.0
            band = a * (z1 + g * (x - z2))
            low = z2 + g * band
            z1, z2 = 2 * band - z1, 2 * low - z2
            out[i] += gain * level * last * swell(i, n, hold, attack) * band


@njit(VOICE, **OPTIONS)
def boom(left, right, hold, freq, gain, seed, p):
    """An impact or a sub drop: a sine falling for seconds, a burst of noise that darkens as it dies."""
    from_hz, to_hz, fall_s, body_s, burst, burst_s, bright_hz, attack = p[0], p[1], p[2], p[3], p[4], p[5], p[6], p[7]
    n, k_fall, k_body, k_burst = len(left), fall(fall_s), fall(body_s), fall(burst_s)
    for channel in range(2):
        out = left if channel == 0 else right
        state, phase, drop, body, blow, low, z = seeded(seed, channel), 0.0, 1.0, 1.0, 1.0, 0.0, 0.0
        for i in range(n):
            phase += (to_hz + (from_hz - to_hz) * drop) / RATE
            state, own = noise(state)
            c = 2 * np.pi * (120.0 + bright_hz * blow) / RATE
            c = c / (1.0 + c)
            low += c * (own - low)
            z += 0.006 * (low - z)
            out[i] += (
                gain * struck(i, n, hold, attack) * (0.72 * body * np.sin(2 * np.pi * phase) + burst * blow * (low - z))
            )
            drop *= k_fall
            body *= k_body
            blow *= k_burst


@njit(VOICE, **OPTIONS)
def grains(left, right, hold, freq, gain, seed, p):
    """Rain, sea, crackle, static: hiss between two edges that swells slowly, and drops falling at random."""
    hiss_level, low_hz, high_hz, swell_s, depth, rate, drop, drop_low, drop_high, drop_s, level = (
        p[0],
        p[1],
        p[2],
        p[3],
        p[4],
        p[5],
        p[6],
        p[7],
        p[8],
        p[9],
        p[10],
    )
    n, c1, c2 = len(left), 2 * np.pi * low_hz / RATE, 1.0 - np.exp(-2 * np.pi * high_hz / RATE)
    for channel in range(2):
        out = left if channel == 0 else right
        state, chance = seeded(seed, channel), seeded(seed, 20 + channel)
        low, band, soft, breath = 0.0, 0.0, 0.0, 1.0
        r, w, y1, y2 = 0.0, 0.0, 0.0, 0.0
        for i in range(n):
            state, own = noise(state)
            if i % 64 == 0:
                t = i / RATE / swell_s
                breath = 1.0 - depth * (
                    0.5 + 0.3 * np.cos(2 * np.pi * t + 0.9 * channel) + 0.2 * np.cos(2 * np.pi * 2.37 * t)
                )
            low += c1 * (own - low)
            band += c2 * (own - low - band)
            soft += c2 * (band - soft)
            if drop > 0.0:
                chance, dice = noise(chance)
                if 0.5 + 0.5 * dice < rate / RATE:
                    chance, where = noise(chance)
                    chance, size = noise(chance)
                    w = 2 * np.pi * drop_low * (drop_high / drop_low) ** (0.5 + 0.5 * where) / RATE
                    r = fall(drop_s)
                    y2 -= drop * (0.25 + 0.75 * size * size) * np.sin(w) / r
            y = y1
            y1, y2 = 2 * r * np.cos(w) * y1 - r * r * y2, y1
            out[i] += gain * level * swell(i, n, hold, 9000.0) * (1.4 * hiss_level * breath * soft + y)


@njit(VOICE, **OPTIONS)
def murmur(left, right, hold, freq, gain, seed, p):
    """A crowd-like murmur: bands of noise round speech formants, each rising and falling like syllables."""
    count, syllable_hz, bright, depth, level = int(p[0]), p[1], p[2], p[3], p[4]
    n = len(left)
    for talker in range(count):
        state, chance = seeded(seed, talker), seeded(seed, 40 + talker)
        centre = (260.0 + 97.0 * (talker * 7 % 11)) * bright
        side = 0.9 * (2.0 * (talker * 5 % count) / max(1, count - 1) - 1.0)
        gl, gr = np.sqrt(0.5 - 0.5 * side), np.sqrt(0.5 + 0.5 * side)
        g, wanted, now, z1, z2 = warp(centre), 0.0, 0.0, 0.0, 0.0
        length = int(RATE / syllable_hz / (0.7 + 0.6 * (talker * 3 % 7) / 7.0))
        for i in range(n):
            if i % length == 0:
                chance, dice = noise(chance)
                wanted = 1.0 - depth * (0.5 + 0.5 * dice)
                chance, dice = noise(chance)
                g = warp(centre * 2.0 ** (0.7 * dice))
            now += 0.0012 * (wanted - now)
            state, air = noise(state)
            a = 1.0 / (1.0 + g * (g + 0.25))
            band = a * (z1 + g * (air - z2))
            low = z2 + g * band
            z1, z2 = 2 * band - z1, 2 * low - z2
            y = gain * level * now * now * band * swell(i, n, hold, 9000.0)
            left[i] += gl * y
            right[i] += gr * y


@njit(VOICE, **OPTIONS)
def chirps(left, right, hold, freq, gain, seed, p):
    """Night insects: a few high tones, each in bursts of quick pulses at its own pace, over faint hiss."""
    count, pitch_hz, pulse_hz, burst_s, hiss_level, level = int(p[0]), p[1], p[2], p[3], p[4], p[5]
    n, state = len(left), seeded(seed, 0)
    for insect in range(count):
        hz = pitch_hz * (1.0 + 0.061 * insect)
        side = 0.8 * (1.0 if insect % 2 else -1.0) * (1.0 - 0.2 * insect / count)
        gl, gr = np.sqrt(0.5 - 0.5 * side), np.sqrt(0.5 + 0.5 * side)
        cycle = burst_s * (1.7 + 0.37 * insect)
        offset, now = ((seed * 13 + insect * 29) % 97) / 97.0 * cycle, 0.0
        for i in range(n):
            t = i / RATE + offset
            inside = 1.0 if (t % cycle) < burst_s else 0.0
            pulse = 0.5 + 0.5 * np.sin(2 * np.pi * pulse_hz * (1.0 + 0.07 * insect) * t)
            now += 0.004 * (inside * pulse - now)
            y = gain * level * now * np.sin(2 * np.pi * hz * t) * swell(i, n, hold, 9000.0)
            left[i] += gl * y
            right[i] += gr * y
    low_l, low_r = 0.0, 0.0
    for i in range(n):
        state, a = noise(state)
        state, b = noise(state)
        low_l += 0.3 * (a - low_l)
        low_r += 0.3 * (b - low_r)
        e = gain * hiss_level * swell(i, n, hold, 9000.0)
        left[i] += e * (a - low_l)
        right[i] += e * (b - low_r)

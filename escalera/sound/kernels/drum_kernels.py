"""Struck sounds. Each kernel names its parameters in the order in which `voices` hands them over."""

import numpy as np
from numba import njit

from escalera.sound.kernels.parts import OPTIONS, RATE, TINY, VOICE, bounded, fall, noise, seeded, struck, swell, warp


@njit(VOICE, **OPTIONS)
def skin(left, right, hold, freq, gain, seed, p):
    """A skin: a sine falling onto its pitch, a second mode, a click, driven and softened."""
    hz, drop, sweep_s, body_s, click, click_s, click_hz = p[0], p[1], p[2], p[3], p[4], p[5], p[6]
    drive, soften_hz, mode, tuned, hiss_level, attack = p[7], p[8], p[9], p[10], p[11], p[12]
    base = freq if tuned > 0.5 else hz
    n, phase, phase2, state = len(left), 0.0, 0.0, seeded(seed, 0)
    sweep, body, body2, tap = 1.0, 1.0, 1.0, 1.0
    k_sweep, k_body, k_body2, k_tap = fall(sweep_s), fall(body_s), fall(body_s * 0.45), fall(click_s)
    c, low, z1, z2 = min(0.95, 2 * np.pi * click_hz / RATE), 0.0, 0.0, 0.0
    g, push = warp(soften_hz), 1.0 + 5.0 * drive
    a, level = 1.0 / (1.0 + g * (g + 1.41421356)), 1.0 / bounded(push)
    for i in range(n):
        at = base * (1.0 + (drop - 1.0) * sweep)
        phase += at / RATE
        phase2 += 1.593 * at / RATE  # second mode of an ideal membrane
        state, hiss = noise(state)
        low += c * (hiss * (click * tap + hiss_level * body2) - low)
        x = body * np.sin(2 * np.pi * phase) + mode * body2 * np.sin(2 * np.pi * phase2)
        x = bounded(push * x) * level + low
        band = a * (z1 + g * (x - z2))
        out = z2 + g * band
        z1, z2 = 2 * band - z1, 2 * out - z2
        left[i] += gain * 0.86 * struck(i, n, hold, attack) * out
        sweep, body = sweep * k_sweep + TINY, body * k_body + TINY  # a bass's drum may be held for long
        body2, tap = body2 * k_body2 + TINY, tap * k_tap + TINY


@njit(VOICE, **OPTIONS)
def rattle(left, right, hold, freq, gain, seed, p):
    """A snare: two head modes, the rattle of its wires between two edges, and a room that a gate may cut."""
    hz, second, tone_s, tone, wires, wires_s = p[0], p[1], p[2], p[3], p[4], p[5]
    low_edge, high_edge, room, room_s, gate_s = p[6], p[7], p[8], p[9], p[10]
    n, c1, c2 = len(left), 2 * np.pi * low_edge / RATE, 1.0 - np.exp(-2 * np.pi * high_edge / RATE)
    k_tone, k_wires, k_room = fall(tone_s), fall(wires_s), fall(room_s)
    gate = int(gate_s * RATE)
    for channel in range(2):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 7)
        head, rattling, space, low, band, soft = 1.0, 1.0, 0.0, 0.0, 0.0, 0.0
        for i in range(n):
            state, own = noise(state)
            shared, both = noise(shared)
            space = space * k_room if i > 500 else i / 500.0  # the room answers 11 ms later
            hiss = wires * rattling * (0.8 * both + 0.5 * own) + room * space * (0.3 * both + 0.9 * own)
            low += c1 * (hiss - low)
            band += c2 * (hiss - low - band)
            soft += c2 * (band - soft)
            t = i / RATE
            y = (
                tone
                * head
                * (np.sin(2 * np.pi * hz * (1.0 + 0.25 * head * head) * t) + 0.5 * np.sin(2 * np.pi * hz * second * t))
            )
            shut = 1.0 if i < gate else max(0.0, 1.0 - (i - gate) / 400.0)
            out[i] += gain * struck(i, n, hold, 20.0) * shut * (0.4 * y + 0.9 * soft)
            head *= k_tone
            rattling *= k_wires


@njit(VOICE, **OPTIONS)
def hands(left, right, hold, freq, gain, seed, p):
    """Claps and snaps: hands a few milliseconds apart through a band, then the room; hands differ left and right."""
    centre_hz, narrow, gap_s, count, each_s, tail, tail_s, apart_s = p[0], p[1], p[2], p[3], p[4], p[5], p[6], p[7]
    n, g = len(left), warp(centre_hz)
    a, last = 1.0 / (1.0 + g * (g + narrow)), (count - 1) * gap_s
    for channel in range(2):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 5)
        z1, z2 = 0.0, 0.0
        for i in range(n):
            state, own = noise(state)
            shared, both = noise(shared)
            t, env = i / RATE, 0.0
            for hand in range(int(count)):
                since = t - hand * gap_s - (apart_s * channel if hand > 0 else 0.0)
                if since >= 0.0:
                    env += (0.7 + 0.3 * hand / max(1.0, count - 1)) * np.exp(-since / each_s)
            if t >= last:
                env += tail * np.exp(-(t - last) / tail_s)
            band = a * (z1 + g * (0.6 * own + 0.8 * both - z2))
            low = z2 + g * band
            z1, z2 = 2 * band - z1, 2 * low - z2
            out[i] += gain * struck(i, n, hold, 16.0) * 0.95 * env * band


METAL_HZ = np.array([2017.0, 2671.0, 3329.0, 4079.0, 5333.0, 6151.0])  # far from any simple ratio


@njit(VOICE, **OPTIONS)
def metal(left, right, hold, freq, gain, seed, p):
    """Hats and cymbals: six hollow partials and hiss above an edge, a fast and a slow decay, a bell."""
    spread, ring, hiss_level, edge, fast_s, slow_s, slow = p[0], p[1], p[2], p[3], p[4], p[5], p[6]
    apart, bell, bell_hz, bell_s, stereo, attack, rise = p[7], p[8], p[9], p[10], p[11], p[12], p[13]
    n = len(left)
    for channel in range(2 if stereo > 0.5 else 1):
        out = left if channel == 0 else right
        state, shared = seeded(seed, channel), seeded(seed, 11)
        k_fast, k_slow, k_bell = fall(fast_s), fall(slow_s), fall(bell_s)
        e_fast, e_slow, e_bell, low, last, soft = 1.0, 1.0, 1.0, 0.0, 0.0, 0.0
        scale = spread * (1.0 + 0.02 * channel * apart)
        phases, steps = np.zeros(6, np.uint32), np.empty(6, np.uint32)  # whole turns wrap by themselves
        for k in range(6):
            steps[k] = np.uint32(METAL_HZ[k] * scale / RATE * 4294967296.0)
        for i in range(n):
            state, own = noise(state)
            shared, both = noise(shared)
            total = 0.0
            for k in range(6):
                total += 1.0 if phases[k] < 2147483648 else -1.0
                phases[k] += steps[k]
            x = hiss_level * (apart * own + (1.0 - 0.6 * apart) * both) + ring * total / 6.0
            low += edge * (x - low)
            high = x - low
            y = high - 0.75 * last  # a second zero near zero hertz keeps it out of the voice's range
            last = high
            soft += 0.36 * (y - soft)  # the very top is air, not metal
            t = i / RATE
            ping = bell * e_bell * (np.sin(2 * np.pi * bell_hz * t) + 0.6 * np.sin(2 * np.pi * bell_hz * 1.47 * t))
            env = (1.0 - slow) * e_fast + slow * e_slow
            if rise > 0.5:  # played backwards: it swells over the note and stops
                share = min(1.0, i / max(1, hold))
                env = share * share * share
            edge_gain = swell(i, n, hold, attack) if rise > 0.5 else struck(i, n, hold, attack)
            out[i] += gain * edge_gain * (3.0 * env * soft + 0.25 * ping)
            e_fast *= k_fast
            e_slow *= k_slow
            e_bell *= k_bell


@njit(VOICE, **OPTIONS)
def knock(left, right, hold, freq, gain, seed, p):
    """Wood and small metal: three modes that die quickly, hollow or round, with a noise tick."""
    hz, second, third, body_s, level2, level3, tick, tick_s, hollow = (
        p[0],
        p[1],
        p[2],
        p[3],
        p[4],
        p[5],
        p[6],
        p[7],
        p[8],
    )
    n, state = len(left), seeded(seed, 0)
    e1, e2, e3, e_tick, last = 1.0, 1.0, 1.0, 1.0, 0.0
    k1, k2, k3, k_tick = fall(body_s), fall(body_s * 0.7), fall(body_s * 0.5), fall(tick_s)
    for i in range(n):
        t = i / RATE
        a, b, c = np.sin(2 * np.pi * hz * t), np.sin(2 * np.pi * hz * second * t), np.sin(2 * np.pi * hz * third * t)
        if hollow > 0.0:
            a, b = bounded(a * (1 + 4 * hollow)), bounded(b * (1 + 4 * hollow))
        state, hiss = noise(state)
        high = hiss - last
        last = hiss
        left[i] += (
            gain * 0.46 * struck(i, n, hold, 10.0) * (e1 * a + level2 * e2 * b + level3 * e3 * c + tick * e_tick * high)
        )
        e1 *= k1
        e2 *= k2
        e3 *= k3
        e_tick *= k_tick


@njit(VOICE, **OPTIONS)
def shake(left, right, hold, freq, gain, seed, p):
    """Seeds gathering and falling: a short swell, then a decay, round one band."""
    centre_hz, narrow, rise_s, body_s = p[0], p[1], p[2], p[3]
    n, state, g = len(left), seeded(seed, 0), warp(centre_hz)
    z1, z2, a = 0.0, 0.0, 1.0 / (1.0 + g * (g + narrow))
    for i in range(n):
        state, hiss = noise(state)
        t = i / RATE
        env = (t / rise_s) ** 1.5 if t < rise_s else np.exp(-(t - rise_s) / body_s)
        band = a * (z1 + g * (hiss - z2))
        low = z2 + g * band
        z1, z2 = 2 * band - z1, 2 * low - z2
        left[i] += gain * 0.9 * struck(i, n, hold, 12.0) * env * band

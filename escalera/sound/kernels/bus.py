"""Chains and buses: filters, ducking, sums, echo, reverb, limiter.

All arrays are float32; filter state and phases are float64. A tiny offset keeps silent tails from denormals.
"""

import numpy as np
from numba import njit

RATE = 44100.0
NEAR_CEILING = 0.6  # 3 dB under the ceiling: what music hides between samples does not reach further
OPTIONS = {"cache": True, "nogil": True, "fastmath": True}
A = "float32[::1]"


@njit(f"void({A}, {A}, float64)", **OPTIONS)
def add_scaled(out, source, gain):
    """out += gain * source, over the whole of both."""
    g = np.float32(gain)
    for i in range(len(out)):
        out[i] += g * source[i]


@njit(f"void({A}, {A}, int64)", **OPTIONS)
def low_pass(signal, cutoff_hz, block):
    """12 dB/octave low-pass in place; one cutoff for every `block` samples (trapezoidal state-variable filter)."""
    s1, s2, k = 0.0, 0.0, 1.41421356
    n = len(signal)
    for index in range(len(cutoff_hz)):
        g = np.tan(np.pi * min(max(cutoff_hz[index], 20.0), 20000.0) / RATE)
        a = 1.0 / (1.0 + g * (g + k))
        chunk = signal[index * block : min(n, index * block + block)]
        for i in range(len(chunk)):
            band = a * (s1 + g * (chunk[i] + 1e-18 - s2))
            low = s2 + g * band
            s1 = 2 * band - s1
            s2 = 2 * low - s2
            chunk[i] = low


@njit(f"void({A}, float64)", **OPTIONS)
def high_pass(signal, cutoff_hz):
    """12 dB/octave high-pass in place."""
    g, k = np.tan(np.pi * cutoff_hz / RATE), 1.41421356
    a = 1.0 / (1.0 + g * (g + k))
    s1, s2 = 0.0, 0.0
    for i in range(len(signal)):
        x = signal[i] + 1e-18
        band = a * (s1 + g * (x - s2))
        low = s2 + g * band
        s1 = 2 * band - s1
        s2 = 2 * low - s2
        signal[i] = x - k * band - low


@njit(f"void({A}, {A}, int64)", **OPTIONS)
def apply_gain(signal, gain, block):
    """Multiply in place by a gain given at the start of every block, running straight between them."""
    n = len(signal)
    for index in range(len(gain) - 1):
        chunk = signal[index * block : min(n, index * block + block)]
        value, step = gain[index], (gain[index + 1] - gain[index]) / block
        for i in range(len(chunk)):
            chunk[i] *= value + step * i


@njit(f"void({A}, int64[::1], float64, int64, int64, int64)", **OPTIONS)
def duck_curve(curve, onsets, depth, attack, hold, release):
    """Multiply `curve` down to 1 - depth at every onset and let it come back along a raised cosine."""
    n = len(curve)
    for onset in onsets:
        for i in range(attack + hold + release):
            at = onset - attack + i
            if 0 <= at < n:
                if i < attack:
                    amount = i / attack
                elif i < attack + hold:
                    amount = 1.0
                else:
                    amount = 0.5 + 0.5 * np.cos(np.pi * (i - attack - hold) / release)
                gain = np.float32(1.0 - depth * amount)
                if gain < curve[at]:
                    curve[at] = gain


@njit(f"void({A}, {A}, {A}, {A}, float64, float64)", **OPTIONS)
def add_stereo(out_l, out_r, source_l, source_r, gain_l, gain_r):
    gl, gr = np.float32(gain_l), np.float32(gain_r)
    for i in range(len(out_l)):
        out_l[i] += gl * source_l[i]
        out_r[i] += gr * source_r[i]


@njit(f"void(float32[:, ::1], float32[:, ::1], {A}, {A}, {A}, {A}, int64[::1], float64[::1])", **OPTIONS)
def enter_block(out, hall, echo, left, right, duck, places, gains):
    """Add the part of one unit that lies in one block to the mix and to the sends.

    `places` holds the unit's first sample in the mix and the block's first and last; `gains` left, right, hall send,
    echo send. An empty `duck` means no ducking; else it runs along the mix. A block fits the processor's cache, so
    that every layer of it is added before the next block is touched.
    """
    at, low, high = places[0], max(places[0], places[1]), min(places[0] + len(left), places[2])
    if low >= high:
        return
    gl, gr = np.float32(gains[0]), np.float32(gains[1])
    x, y = left[low - at : high - at], right[low - at : high - at]
    if len(duck):
        curve = duck[low:high]
        wet_x, wet_y = np.empty(high - low, np.float32), np.empty(high - low, np.float32)
        for i in range(len(curve)):
            wet_x[i] = x[i] * curve[i]
            wet_y[i] = y[i] * curve[i]
        x, y = wet_x, wet_y
    ol, orr = out[0, low:high], out[1, low:high]
    for i in range(len(x)):
        ol[i] += gl * x[i]
        orr[i] += gr * y[i]
    if gains[2] > 0.0:
        hl, hr, sl, sr = hall[0, low:high], hall[1, low:high], np.float32(gl * gains[2]), np.float32(gr * gains[2])
        for i in range(len(x)):
            hl[i] += sl * x[i]
            hr[i] += sr * y[i]
    if gains[3] > 0.0:
        e, share = echo[low:high], np.float32(gains[3])
        for i in range(len(x)):
            e[i] += share * (x[i] + y[i])


@njit(f"void({A}, {A}, {A}, int64, float64, float64)", **OPTIONS)
def ping_pong(send, out_l, out_r, delay, feedback, damping):
    """Echo of a mono send, first left, then right; each turn is darker. Adds to out_l and out_r."""
    line_l, line_r = np.zeros(delay, np.float32), np.zeros(delay, np.float32)
    low_l, low_r, at = 0.0, 0.0, 0
    for i in range(len(send)):
        from_l, from_r = line_l[at], line_r[at]
        low_l += damping * (from_l + 1e-18 - low_l)
        low_r += damping * (from_r + 1e-18 - low_r)
        line_l[at] = send[i] + feedback * low_r
        line_r[at] = feedback * low_l if feedback > 0 else 0.0
        out_l[i] += low_l
        out_r[i] += low_r
        at += 1
        if at == delay:
            at = 0


@njit(f"void({A}, {A}, {A}, {A}, float64, float64)", **OPTIONS)
def hall(in_l, in_r, out_l, out_r, decay_s, damping):
    """Reverb: eight delay lines mixed by a Hadamard matrix (Jot and Chaigne 1991). Adds to out_l and out_r."""
    lengths = (1433, 1601, 1867, 2053, 2251, 2399, 2617, 2797)
    size = 4096
    mask = size - 1
    lines = np.zeros((8, size), np.float32)
    l0, l1, l2, l3, l4, l5, l6, l7 = lines[0], lines[1], lines[2], lines[3], lines[4], lines[5], lines[6], lines[7]
    norm = 0.35355339
    g = np.empty(8, np.float32)
    for k in range(8):
        g[k] = norm * 10.0 ** (-3.0 * lengths[k] / RATE / decay_s)
    g0, g1, g2, g3, g4, g5, g6, g7 = g[0], g[1], g[2], g[3], g[4], g[5], g[6], g[7]
    d = np.float32(damping)
    z0 = z1 = z2 = z3 = z4 = z5 = z6 = z7 = np.float32(0.0)
    tiny = np.float32(1e-18)
    for i in range(len(in_l)):
        w = i & mask
        z0 += d * (l0[(i - 1433) & mask] + tiny - z0)
        z1 += d * (l1[(i - 1601) & mask] + tiny - z1)
        z2 += d * (l2[(i - 1867) & mask] + tiny - z2)
        z3 += d * (l3[(i - 2053) & mask] + tiny - z3)
        z4 += d * (l4[(i - 2251) & mask] + tiny - z4)
        z5 += d * (l5[(i - 2399) & mask] + tiny - z5)
        z6 += d * (l6[(i - 2617) & mask] + tiny - z6)
        z7 += d * (l7[(i - 2797) & mask] + tiny - z7)
        out_l[i] += np.float32(0.5) * (z0 - z2 + z4 - z6)
        out_r[i] += np.float32(0.5) * (z1 - z3 + z5 - z7)
        a0, a1, a2, a3 = z0 + z1, z0 - z1, z2 + z3, z2 - z3
        a4, a5, a6, a7 = z4 + z5, z4 - z5, z6 + z7, z6 - z7
        b0, b1, b2, b3 = a0 + a2, a1 + a3, a0 - a2, a1 - a3
        b4, b5, b6, b7 = a4 + a6, a5 + a7, a4 - a6, a5 - a7
        xl, xr = in_l[i], in_r[i]
        l0[w] = g0 * (b0 + b4) + xl
        l1[w] = g1 * (b1 + b5) + xr
        l2[w] = g2 * (b2 + b6) - xl
        l3[w] = g3 * (b3 + b7) - xr
        l4[w] = g4 * (b0 - b4) + xl
        l5[w] = g5 * (b1 - b5) + xr
        l6[w] = g6 * (b2 - b6) - xl
        l7[w] = g7 * (b3 - b7) - xr


@njit(f"void({A}, {A}, float32[:, ::1], {A}, int64)", **OPTIONS)
def block_peaks(left, right, phases, peaks, block):
    """Largest magnitude of every block, between samples too (four times oversampled) where it comes near the ceiling."""
    n, taps = len(left), phases.shape[1]
    half = taps // 2
    a, b = np.zeros(block, np.float32), np.zeros(block, np.float32)
    for index in range(len(peaks)):
        low, high = index * block, min(n, index * block + block)
        top = np.float32(0.0)
        for i in range(low, high):
            top = max(top, abs(left[i]), abs(right[i]))
        if top > NEAR_CEILING and low >= half and high + half <= n:
            for p in range(phases.shape[0]):
                a[:] = 0.0
                b[:] = 0.0
                for t in range(taps):
                    c, at = phases[p, t], low - half + t
                    x, y = left[at : at + block], right[at : at + block]
                    for i in range(len(x)):
                        a[i] += c * x[i]
                        b[i] += c * y[i]
                for i in range(high - low):
                    top = max(top, abs(a[i]), abs(b[i]))
        peaks[index] = top


@njit(f"void({A}, {A}, {A}, float64, int64, int64)", **OPTIONS)
def limit_gain(peaks, lowest, gain, ceiling, ahead, behind):
    """Smoothed gain per block that keeps every peak at or under the ceiling; memory is ahead + behind + ahead blocks."""
    n = len(peaks)
    need = np.ones(n, np.float32)
    for k in range(n):
        top = peaks[k]
        if k > 0:
            top = max(top, peaks[k - 1])
        if k + 1 < n:
            top = max(top, peaks[k + 1])
        if top > ceiling:
            need[k] = ceiling / top
    queue, first, last = np.empty(n, np.int64), 0, 0  # positions of rising values inside the window
    for j in range(n + ahead):
        if j < n:
            while last > first and need[queue[last - 1]] >= need[j]:
                last -= 1
            queue[last] = j
            last += 1
        k = j - ahead
        if k >= 0:
            while queue[first] < k - behind:
                first += 1
            lowest[k] = need[queue[first]]
    width = 2 * ahead + 1
    for k in range(n):
        total = 0.0
        for j in range(k - ahead, k + ahead + 1):
            total += lowest[min(max(j, 0), n - 1)]
        gain[k] = total / width


@njit(f"void({A}, {A}, {A}, int64)", **OPTIONS)
def limit_apply(left, right, gain, block):
    """Multiply by the gain, running straight between block centres."""
    n, half = len(left), block / 2.0
    for i in range(n):
        at = (i - half) / block
        k = int(np.floor(at))
        share = np.float32(at - k)
        a = gain[min(max(k, 0), len(gain) - 1)]
        b = gain[min(max(k + 1, 0), len(gain) - 1)]
        g = a + (b - a) * share
        left[i] *= g
        right[i] *= g

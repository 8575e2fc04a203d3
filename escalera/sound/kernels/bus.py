"""Strips and buses: filters, ducking, sums, the limiter.

All arrays are float32; filter state and phases are float64.
"""

import numpy as np
from numba import njit

from escalera.sound.kernels.parts import OPTIONS, RATE, TINY, A

NEAR_CEILING = 0.6  # 3 dB under the ceiling: what music hides between samples does not reach further


@njit("void(float32[:, ::1], float32[:, ::1], int64[::1], float64[:, ::1])", **OPTIONS)
def add_notes(out, note, starts, levels):
    """Add one note's sound wherever it is played, at its level there and on each side; a mono note to both sides."""
    for index in range(len(starts)):
        start = starts[index]
        for side in range(len(out)):
            g, source = np.float32(levels[side, index]), note[min(side, len(note) - 1)]
            target = out[side, start : start + len(source)]
            for i in range(len(target)):
                target[i] += g * source[i]


@njit(f"void({A}, {A}, {A}, int64, int64)", **OPTIONS)
def edge_filter(left, right, cutoff_hz, block, high):
    """12 dB/octave low-pass (or high-pass) in place; one cutoff for every `block` samples (trapezoidal state-variable
    filter). Both channels in one loop, so that the processor works on two chains at once; a mono signal is given as
    left with an empty right."""
    s1, s2, t1, t2, k = 0.0, 0.0, 0.0, 0.0, 1.41421356
    n, last, keep, turn, lift, stereo = len(left), -1.0, 0.0, 0.0, 0.0, len(right) > 0
    for index in range(-(-n // block)):
        if cutoff_hz[index] != last:
            last = cutoff_hz[index]
            g = np.tan(np.pi * min(max(last, 16.0), 20000.0) / RATE)
            a = 1.0 / (1.0 + g * (g + k))
            keep, turn, lift = 2.0 * a - 1.0, 2.0 * a * g, 2.0 * a * g * g
        x = left[index * block : min(n, index * block + block)]
        # the next state is written straight from the last one: two operations from sample to sample instead of five
        if stereo:
            y = right[index * block : min(n, index * block + block)]
            for i in range(len(x)):
                u, v = x[i] + TINY, y[i] + TINY
                d, e = u - s2, v - t2
                n1, m1 = keep * s1 + (turn * d + TINY), keep * t1 + (turn * e + TINY)
                n2, m2 = (s2 + turn * s1) + lift * d, (t2 + turn * t1) + lift * e
                low, low2 = 0.5 * (s2 + n2), 0.5 * (t2 + m2)
                x[i] = u - 0.5 * k * (s1 + n1) - low if high == 1 else low
                y[i] = v - 0.5 * k * (t1 + m1) - low2 if high == 1 else low2
                s1, s2, t1, t2 = n1, n2, m1, m2
        else:
            for i in range(len(x)):
                u = x[i] + TINY
                d = u - s2
                n1, n2 = keep * s1 + (turn * d + TINY), (s2 + turn * s1) + lift * d
                low = 0.5 * (s2 + n2)
                x[i] = u - 0.5 * k * (s1 + n1) - low if high == 1 else low
                s1, s2 = n1, n2


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
    n, length = len(curve), attack + hold + release
    shape = np.empty(length, np.float32)
    for i in range(length):
        if i < attack:
            shape[i] = 1.0 - depth * i / attack
        elif i < attack + hold:
            shape[i] = 1.0 - depth
        else:
            shape[i] = 1.0 - depth * (0.5 + 0.5 * np.cos(np.pi * (i - attack - hold) / release))
    for onset in onsets:
        low, high = max(0, onset - attack), min(n, onset - attack + length)
        if low < high:
            out, dip = curve[low:high], shape[low - onset + attack : high - onset + attack]
            for i in range(len(out)):
                out[i] = min(out[i], dip[i])


@njit(f"void({A}, {A}, {A}, {A}, float64, float64)", **OPTIONS)
def add_stereo(out_l, out_r, source_l, source_r, gain_l, gain_r):
    gl, gr = np.float32(gain_l), np.float32(gain_r)
    for i in range(len(out_l)):
        out_l[i] += gl * source_l[i]
        out_r[i] += gr * source_r[i]


@njit(f"void(float32[:, ::1], {A}, {A}, {A}, {A}, int64[::1], float64, float64)", **OPTIONS)
def enter(out, left, right, curve_l, curve_r, places, gain_l, gain_r):
    """Add the part of one unit that lies in one block to a stereo buffer.

    `places` holds the unit's first sample in the buffer and the block's first and last. Empty curves mean no ducking
    or movement; else they run along the buffer. A block fits the processor's cache, so that every layer of it is
    added before the next block is touched.
    """
    at, low, high = places[0], max(places[0], places[1]), min(places[0] + len(left), places[2])
    if low >= high:
        return
    gl, gr = np.float32(gain_l), np.float32(gain_r)
    x, y = left[low - at : high - at], right[low - at : high - at]
    ol, orr = out[0, low:high], out[1, low:high]
    if len(curve_l):
        cl, cr = curve_l[low:high], curve_r[low:high]
        for i in range(len(x)):
            ol[i] += gl * cl[i] * x[i]
            orr[i] += gr * cr[i] * y[i]
    else:
        for i in range(len(x)):
            ol[i] += gl * x[i]
            orr[i] += gr * y[i]


@njit(f"void({A}, {A}, float32[:, ::1], {A})", **OPTIONS)
def block_peaks(left, right, phases, peaks):
    """Largest magnitude of every block of 16 samples, between samples too (four times oversampled) where it comes near the ceiling.

    Loops over 16 run in the processor's wide registers; the running maximum of a row would not.
    """
    n, taps = len(left), phases.shape[1]
    half = taps // 2
    between, largest = np.zeros((6, 16), np.float32), np.zeros(16, np.float32)
    for index in range(len(peaks)):
        low, high, top = index * 16, min(n, index * 16 + 16), np.float32(0.0)
        if high - low == 16:
            x, y = left[low:high], right[low:high]
            for i in range(16):
                u, v = abs(x[i]), abs(y[i])
                largest[i] = u if u > v else v
            for i in range(8):
                u, v = largest[i], largest[i + 8]
                largest[i] = u if u > v else v
            for i in range(8):
                top = max(top, largest[i])
        else:
            for i in range(low, high):
                top = max(top, abs(left[i]), abs(right[i]))
        if top > NEAR_CEILING and low >= half and high + half <= n:
            between[:] = 0.0
            for t in range(taps):
                c0, c1, c2, at = phases[0, t], phases[1, t], phases[2, t], low - half + t
                x, y = left[at : at + 16], right[at : at + 16]
                for i in range(16):
                    u, v = x[i], y[i]
                    between[0, i] += c0 * u
                    between[1, i] += c1 * u
                    between[2, i] += c2 * u
                    between[3, i] += c0 * v
                    between[4, i] += c1 * v
                    between[5, i] += c2 * v
            for row in range(6):
                for i in range(high - low):
                    top = max(top, abs(between[row, i]))
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
    # the running mean is kept in whole numbers: exact, so that it is the same wherever the stretch begins
    width, scale, total = 2 * ahead + 1, 16777216.0, np.int64(0)
    for j in range(-ahead, ahead + 1):
        total += np.int64(lowest[min(max(j, 0), n - 1)] * scale)
    for k in range(n):
        gain[k] = total / (scale * width)
        total += np.int64(lowest[min(k + ahead + 1, n - 1)] * scale) - np.int64(lowest[max(k - ahead, 0)] * scale)


@njit(f"void({A}, {A}, {A}, int64, int64)", **OPTIONS)
def limit_apply(left, right, gain, block, undo):
    """Multiply by the gain, running straight between block centres; or divide by it."""
    n, half, shares = len(left), block // 2, np.arange(block).astype(np.float32) / np.float32(block)
    for k in range(-1, len(gain)):
        low, high = max(0, k * block + half), min(n, (k + 1) * block + half)
        start, step = gain[max(k, 0)], gain[min(k + 1, len(gain) - 1)] - gain[max(k, 0)]
        if low < high and not (start == 1.0 and step == 0.0):
            x, y, share = left[low:high], right[low:high], shares[low - k * block - half :]
            for i in range(len(x)):
                g = start + step * share[i]
                if undo == 1:
                    g = np.float32(1.0) / g
                x[i] *= g
                y[i] *= g

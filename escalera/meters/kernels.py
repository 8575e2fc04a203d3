"""Compiled loops of the meters. Arrays in, arrays out."""

import numpy as np
from numba import njit

OPTIONS = {"cache": True, "nogil": True, "fastmath": False}
BLOCK = 64


@njit("void(float32[::1], float32[::1], float64[::1], int64[::1], float64[::1])", **OPTIONS)
def k_weighted_energy(left, right, coefficients, edges, energy):
    """Sum of squares of both K-weighted channels between consecutive edges; an empty right is a mono signal.

    `coefficients` holds b0 b1 b2 a1 a2 of the shelf, then of the high-pass (ITU-R BS.1770-4, annex 1). Both channels
    run in one loop, so that the processor works on two chains at once.
    """
    b0, b1, b2, a1, a2 = coefficients[0], coefficients[1], coefficients[2], coefficients[3], coefficients[4]
    c0, c1, c2, d1, d2 = coefficients[5], coefficients[6], coefficients[7], coefficients[8], coefficients[9]
    s1 = s2 = t1 = t2 = u1 = u2 = v1 = v2 = 0.0
    stereo = len(right) > 0
    for k in range(len(edges) - 1):
        total = 0.0
        x = left[edges[k] : edges[k + 1]]
        if stereo:
            w = right[edges[k] : edges[k + 1]]
            for i in range(len(x)):
                y, q = b0 * x[i] + s1, b0 * w[i] + u1
                s1, u1 = b1 * x[i] - a1 * y + s2 + 1e-30, b1 * w[i] - a1 * q + u2 + 1e-30
                s2, u2 = b2 * x[i] - a2 * y, b2 * w[i] - a2 * q
                z, r = c0 * y + t1, c0 * q + v1
                t1, v1 = c1 * y - d1 * z + t2, c1 * q - d1 * r + v2
                t2, v2 = c2 * y - d2 * z, c2 * q - d2 * r
                total += z * z + r * r
        else:
            for i in range(len(x)):
                y = b0 * x[i] + s1
                s1 = b1 * x[i] - a1 * y + s2 + 1e-30
                s2 = b2 * x[i] - a2 * y
                z = c0 * y + t1
                t1 = c1 * y - d1 * z + t2
                t2 = c2 * y - d2 * z
                total += z * z
        energy[k] = total


@njit("float64(float32[::1], float32[:, ::1], float64, float64, int64)", cache=True, nogil=True, fastmath=True)
def true_peak(signal, phases, bound, known, aside):
    """Largest magnitude between samples, where it can exceed `known`; else `known`. So many blocks of 64 samples at either end are only
    what its neighbours are read with.

    `bound` is the most by which interpolation can exceed its samples. A block whose neighbourhood times the bound
    stays under the peak found so far cannot hold a new one and is passed over; loud blocks come first.
    """
    n, taps = len(signal), phases.shape[1]
    half, count = taps // 2, -(-n // BLOCK)
    first, last = aside, count - aside
    largest, top = np.zeros(count, np.float32), np.float32(known)
    for k in range(count):
        most = np.float32(0.0)
        for value in signal[k * BLOCK : min(n, k * BLOCK + BLOCK)]:
            most = max(most, abs(value))
        largest[k] = most
        if first <= k < last:
            top = max(top, most)
    padded, row = np.zeros(BLOCK + taps, np.float32), np.zeros(BLOCK, np.float32)
    for share in (0.93, 0.8, 0.0):  # the loudest blocks first, so that the rest are passed over sooner
        above = top * np.float32(share)
        for k in range(first, last):
            near = max(largest[max(0, k - 1)], largest[k], largest[min(count - 1, k + 1)])
            if near * bound <= top or largest[k] < above:
                continue
            low = k * BLOCK - half
            for i in range(len(padded)):
                padded[i] = signal[low + i] if 0 <= low + i < n else 0.0
            for p in range(phases.shape[0]):
                row[:] = 0.0
                for t in range(taps):
                    c, x = phases[p, t], padded[t : t + BLOCK]
                    for i in range(BLOCK):
                        row[i] += c * x[i]
                for i in range(BLOCK):
                    top = max(top, abs(row[i]))
    return top

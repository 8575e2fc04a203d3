"""Compiled loops of the meters. Arrays in, arrays out."""

from numba import njit

OPTIONS = {"cache": True, "nogil": True, "fastmath": False}


@njit("void(float32[::1], float64[::1], int64[::1], float64[::1])", **OPTIONS)
def k_weighted_energy(signal, coefficients, edges, energy):
    """Sum of squares of the K-weighted signal between consecutive edges.

    `coefficients` holds b0 b1 b2 a1 a2 of the shelf, then of the high-pass (ITU-R BS.1770-4, annex 1).
    """
    b0, b1, b2, a1, a2 = coefficients[0], coefficients[1], coefficients[2], coefficients[3], coefficients[4]
    c0, c1, c2, d1, d2 = coefficients[5], coefficients[6], coefficients[7], coefficients[8], coefficients[9]
    s1 = s2 = t1 = t2 = 0.0
    for k in range(len(edges) - 1):
        total = 0.0
        for x in signal[edges[k] : edges[k + 1]]:
            y = b0 * x + s1
            s1 = b1 * x - a1 * y + s2 + 1e-30
            s2 = b2 * x - a2 * y
            z = c0 * y + t1
            t1 = c1 * y - d1 * z + t2
            t2 = c2 * y - d2 * z
            total += z * z
        energy[k] = total


@njit("float64(float32[::1], float32[:, ::1], float64)", **OPTIONS)
def true_peak(signal, phases, known):
    """Largest magnitude between samples, where it can exceed `known`; else `known`.

    Blocks whose samples stay below 0.6 of the peak found so far cannot hold a new one at four times oversampling
    of music; they are passed over.
    """
    n, taps, block = len(signal), phases.shape[1], 64
    half = taps // 2
    top = known
    for value in signal:
        top = max(top, abs(value))
    for low in range(0, n, block):
        high = min(n, low + block)
        largest = 0.0
        for i in range(max(0, low - 1), min(n, high + 1)):
            largest = max(largest, abs(signal[i]))
        if largest < 0.6 * top:
            continue
        for i in range(low, high):
            for p in range(phases.shape[0]):
                value = 0.0
                for t in range(taps):
                    at = i - half + t
                    if 0 <= at < n:
                        value += phases[p, t] * signal[at]
                top = max(top, abs(value))
    return top

"""What kernels share: noise, oscillators, envelopes, one step of a filter. All are woven into their callers."""

import numpy as np
from numba import njit

RATE = 44100.0
TINY = 1e-18  # added to every state of a filter: one that dies away in silence ends in denormals, thirty times slower
OPTIONS = {"cache": True, "nogil": True, "fastmath": True}
A = "float32[::1]"
# (left, right, hold_samples, freq_hz, gain, seed, parameters): adds one note to the arrays, whose length is the
# whole note. A mono voice fills `left` alone.
VOICE = f"void({A}, {A}, int64, float64, float64, int64, float64[::1])"
# Least-squares fit of sin(2πx) on -0.5..0.5 by odd powers up to x⁹; largest error 6e-6, far below any partial
C1, C3, C5, C7, C9 = 6.28305406, -41.33112111, 81.3654677, -74.47078941, 32.76852614


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
def sine(turns):
    """sin(2π turns) by a polynomial of ninth degree, within 6e-6."""
    x = turns - np.floor(turns + 0.5)
    q = x * x
    return x * (C1 + q * (C3 + q * (C5 + q * (C7 + q * C9))))


@njit(inline="always")
def saw(phase, step):
    """A saw in -1..1 at phase 0..1, its edge smoothed over one sample on either side (polyBLEP)."""
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


@njit(inline="always")
def struck(i, n, hold, attack):
    """Attack of a hit, the damping after a hold that ends early, and a fade of the last fifth to exact zero."""
    gain = i / attack if i < attack else 1.0
    if i > hold:
        share = (n - 1 - i) / max(1, n - 1 - hold)
        gain *= share * share
    left, fade = n - 1 - i, n // 5
    return gain * left / fade if left < fade else gain


@njit(inline="always")
def fall(seconds):
    """Factor per sample of a decay to 1/e within `seconds`."""
    return np.exp(-1.0 / (max(seconds, 1e-4) * RATE))


@njit(inline="always")
def warp(hz):
    """Coefficient of a trapezoidal filter at a frequency."""
    return np.tan(np.pi * min(max(hz, 16.0), 20000.0) / RATE)


@njit(inline="always")
def bounded(x):
    """A smooth limit to -1..1: a rational tanh, exact to 0.02 up to 3."""
    x = min(max(x, -3.0), 3.0)
    return x * (27.0 + x * x) / (27.0 + 9.0 * x * x)

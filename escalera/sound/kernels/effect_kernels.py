"""Effects on finished sound: float32 signals, control values for every 16 samples, float64 filter state.

Control values run straight between their grid points, so that a moving parameter makes no steps.
"""

import numpy as np
from numba import njit

from escalera.sound.kernels.parts import OPTIONS, RATE, TINY, A, sine, warp

BLOCK = 16


@njit(f"void({A}, {A}, {A}, int64)", **OPTIONS)
def resonant(signal, cutoff_hz, resonance, kind):
    """Two-pole filter in place: 0 low-pass, 1 high-pass, 2 band-pass at unity gain (trapezoidal state variable)."""
    s1, s2, n = 0.0, 0.0, len(signal)
    g = warp(cutoff_hz[0])
    for index in range(-(-n // BLOCK)):
        chunk = signal[index * BLOCK : min(n, index * BLOCK + BLOCK)]
        target = warp(cutoff_hz[index + 1])
        k = 1.41421356 * (1.0 - resonance[index]) + 0.06 * resonance[index]
        step = (target - g) / BLOCK
        a = 1.0 / (1.0 + g * (g + k))
        if step == 0.0 and kind == 0:
            keep, turn, lift = 2.0 * a - 1.0, 2.0 * a * g, 2.0 * a * g * g
            for i in range(len(chunk)):
                d = chunk[i] + TINY - s2
                n1, n2 = keep * s1 + (turn * d + TINY), (s2 + turn * s1) + lift * d
                chunk[i] = 0.5 * (s2 + n2)
                s1, s2 = n1, n2
            continue
        for i in range(len(chunk)):
            if step != 0.0:
                g += step
                a = 1.0 / (1.0 + g * (g + k))
            x = chunk[i] + TINY
            band = a * (s1 + g * (x - s2))
            low = s2 + g * band
            s1 = 2 * band - s1 + TINY
            s2 = 2 * low - s2
            chunk[i] = low if kind == 0 else (x - k * band - low if kind == 1 else k * band)
        g = target


@njit(f"void({A}, {A}, {A}, {A}, int64)", **OPTIONS)
def tilt_band(signal, hz, gain_db, narrow, kind):
    """One band of an equaliser in place: 0 bell, 1 low shelf, 2 high shelf.

    State variable filter after Simper, "Solving the continuous SVF equations", 2013; coefficients hold for a block.
    """
    s1, s2, n = 0.0, 0.0, len(signal)
    for index in range(-(-n // BLOCK)):
        chunk = signal[index * BLOCK : min(n, index * BLOCK + BLOCK)]
        lift = 10.0 ** (gain_db[index] / 40.0)
        g, k = warp(hz[index]), 1.0 / narrow[index]
        m0, m1, m2 = 1.0, 0.0, 0.0
        if kind == 0:
            k = k / lift
            m1 = k * (lift * lift - 1.0)
        elif kind == 1:
            g, k = g / np.sqrt(lift), 1.41421356
            m1, m2 = k * (lift - 1.0), lift * lift - 1.0
        else:
            g, k = g * np.sqrt(lift), 1.41421356
            m0, m1, m2 = lift * lift, k * (1.0 - lift) * lift, 1.0 - lift * lift
        a = 1.0 / (1.0 + g * (g + k))
        for i in range(len(chunk)):
            x = chunk[i] + TINY
            band = a * (s1 + g * (x - s2))
            low = s2 + g * band
            s1, s2 = 2 * band - s1 + TINY, 2 * low - s2
            chunk[i] = m0 * x + m1 * band + m2 * low


@njit(f"void({A}, {A}, {A}, {A})", **OPTIONS)
def follow_attack(left, right, quick, slow):
    """Envelopes of a signal for every block, one that follows at once and one that lags: what they differ by is the attack."""
    n, a, b = len(left), 0.0, 0.0
    rise, fall = 1.0 - np.exp(-BLOCK / (0.030 * RATE)), 1.0 - np.exp(-BLOCK / (0.180 * RATE))
    drop = np.exp(-BLOCK / (0.030 * RATE))
    for index in range(len(quick)):
        loudest = 0.0
        for i in range(index * BLOCK, min(n, index * BLOCK + BLOCK)):
            loudest = max(loudest, abs(left[i]), abs(right[i]))
        a = max(loudest, a * drop)
        b += (loudest - b) * (rise if loudest > b else fall)
        quick[index], slow[index] = a + 1e-9, b + 1e-9


@njit(f"void({A}, {A}, {A})", **OPTIONS)
def drifting(signal, out, delay_ms):
    """The signal through a delay in milliseconds that is given for every block, and runs straight between."""
    n = len(signal)
    for index in range(-(-n // BLOCK)):
        late, step = delay_ms[index], (delay_ms[index + 1] - delay_ms[index]) / BLOCK
        for i in range(index * BLOCK, min(n, index * BLOCK + BLOCK)):
            at = i - late * 0.001 * RATE
            k = int(np.floor(at))
            share = at - k
            out[i] = (1.0 - share) * signal[k] + share * signal[k + 1] if 0 <= k < n - 1 else 0.0
            late += step


@njit(f"void({A}, {A}, {A}, {A}, {A})", **OPTIONS)
def strung(signal, out, note, ring_s, damping):
    """Add a tuned delay line that feeds itself to `out`: it rings at a MIDI note for `ring_s` (to -60 dB), darker with damping.

    Karplus and Strong's string, driven by the signal. The length glides within some milliseconds, so that a new note makes no
    click; what the filter in the loop delays is taken off the line.
    """
    n = len(signal)
    memory, at, kept = np.zeros(4096), 0, 0.0
    length = RATE / (440.0 * 2.0 ** ((note[0] - 69.0) / 12.0))
    for index in range(-(-n // BLOCK)):
        wanted = RATE / (440.0 * 2.0 ** ((note[index] - 69.0) / 12.0))
        back = 10.0 ** (-3.0 * wanted / (ring_s[index] * RATE))
        dull = 0.85 * damping[index]
        level = np.sqrt(1.0 - back * back)
        late = dull / (1.0 - dull)  # samples by which the loop's low-pass delays low notes
        for i in range(index * BLOCK, min(n, index * BLOCK + BLOCK)):
            length += 0.004 * (wanted - length)
            place = at - max(2.0, length - late)
            k = int(np.floor(place))
            share = place - k
            heard = (1.0 - share) * memory[k & 4095] + share * memory[(k + 1) & 4095]
            kept = (1.0 - dull) * heard + dull * kept
            memory[at & 4095] = signal[i] + back * kept
            out[i] += level * kept
            at += 1


@njit(f"void({A}, {A}, float64)", **OPTIONS)
def saturate(signal, amount, mix):
    """x / sqrt(1 + x²) with up to 30 dB of push, level kept for a signal at -9 dBFS.

    First-order antiderivative antialiasing (Parker, Zavalishin and Le Bivic, DAFx 2016); the antiderivative of this
    curve is sqrt(1 + x²).
    """
    last, sum_last, n, rest = 0.0, 1.0, len(signal), 0.0
    for index in range(-(-n // BLOCK)):
        chunk = signal[index * BLOCK : min(n, index * BLOCK + BLOCK)]
        push = 10.0 ** (1.5 * amount[index])
        level = 0.35 / (0.35 * push / np.sqrt(1.0 + 0.1225 * push * push))
        for i in range(len(chunk)):
            x = push * chunk[i]
            whole, step = np.sqrt(1.0 + x * x), x - last
            middle = 0.5 * (x + last)
            y = middle / np.sqrt(1.0 + middle * middle) if abs(step) < 1e-3 else (whole - sum_last) / step
            last, sum_last = x, whole
            rest += 0.0012 * (y - rest)  # a lopsided wave leaves an offset behind
            y -= rest
            chunk[i] = (1.0 - mix) * chunk[i] + mix * level * y


@njit(f"void({A}, {A}, {A}, {A}, float64, float64)", **OPTIONS)
def split_bands(signal, low, mid, high, low_hz, high_hz):
    """Three bands that add up to the signal exactly."""
    c1, c2 = warp(low_hz), warp(high_hz)
    c1, c2 = c1 / (1.0 + c1), c2 / (1.0 + c2)
    s1, s2 = 0.0, 0.0
    for i in range(len(signal)):
        v = (signal[i] + TINY - s1) * c1
        a = v + s1
        s1 = a + v
        rest = signal[i] - a
        v = (rest - s2) * c2
        b = v + s2
        s2 = b + v
        low[i], mid[i], high[i] = a, b, rest - b


@njit("void(int64[::1], int64[::1], int64)", **OPTIONS)
def highest_lately(values, out, width):
    """Highest of the last `width` values, for every value."""
    n = len(values)
    queue, first, last = np.empty(n, np.int64), 0, 0  # positions of falling values inside the window
    for k in range(n):
        while last > first and values[queue[last - 1]] <= values[k]:
            last -= 1
        queue[last] = k
        last += 1
        while queue[first] <= k - width:
            first += 1
        out[k] = values[queue[first]]


@njit(f"void({A}, {A}, {A}, float64, float64, int64, int64, int64)", **OPTIONS)
def compress_gain(left, right, gain_db, threshold_db, slope, ahead, behind, window):
    """Gain in dB for every block and one more: RMS over `window` blocks; the reduction is reached `ahead` blocks early
    and comes back within `behind` blocks, held for half of them and running straight over the rest.

    Memory is window + behind + ahead blocks and nothing else, and means run in whole numbers (dB times 2^20), so that
    a stretch alone gives exactly the same as the whole.
    """
    n, blocks = len(left), len(gain_db) - 1
    power = np.zeros(blocks)
    for k in range(blocks):
        x, y = left[k * BLOCK : min(n, k * BLOCK + BLOCK)], right[k * BLOCK : min(n, k * BLOCK + BLOCK)]
        total = 0.0
        for i in range(len(x)):
            total += x[i] * x[i] + y[i] * y[i]
        power[k] = total
    need = np.zeros(blocks, np.int64)
    for k in range(blocks):
        total = 0.0
        for j in range(max(0, k - window + 1), k + 1):
            total += power[j]
        level = 10.0 * np.log10(total / (window * BLOCK * 2.0) + 1e-12)
        need[k] = np.int64(max(0.0, level - threshold_db) * slope * 1048576.0)
    half, width = max(1, behind // 2), ahead + 1
    soon, held = np.zeros(blocks, np.int64), np.zeros(blocks, np.int64)
    highest_lately(need, soon, width)
    highest_lately(need, held, half)
    early, back = np.int64(0), np.int64(0)
    for j in range(ahead):
        early += soon[min(j, blocks - 1)]
    for k in range(blocks + 1):
        early += soon[min(k + ahead, blocks - 1)]
        if k < blocks:
            back += held[k] - (held[k - half] if k >= half else 0)
        gain_db[k] = -max(early / width, back / half) / 1048576.0
        early -= soon[min(k, blocks - 1)]


@njit(f"void({A}, {A}, {A}, {A}, int64, {A}, float64, float64, int64, float64)", **OPTIONS)
def echo(in_l, in_r, out_l, out_r, delay, feedback, low_hz, high_hz, middle, duck):
    """Adds repeats to out_l and out_r: from side to side, or where they came from; each turn loses lows and highs.

    With `duck` the repeats step back while the source sounds.
    """
    line_l, line_r = np.zeros(delay, np.float32), np.zeros(delay, np.float32)
    hi, lo = warp(high_hz), warp(low_hz)
    hi, lo = hi / (1.0 + hi), lo / (1.0 + lo)
    a_l, a_r, b_l, b_r, at, follow = 0.0, 0.0, 0.0, 0.0, 0, 0.0
    fast, slow, wet = 1.0 - np.exp(-1.0 / (0.004 * RATE)), np.exp(-1.0 / (0.18 * RATE)), 1.0
    for i in range(len(in_l)):
        from_l, from_r = line_l[at] + TINY, line_r[at] + TINY
        v = (from_l - a_l) * hi
        y_l = v + a_l
        a_l = y_l + v
        v = (from_r - a_r) * hi
        y_r = v + a_r
        a_r = y_r + v
        v = (y_l - b_l) * lo
        y_l -= v + b_l
        b_l += 2.0 * v
        v = (y_r - b_r) * lo
        y_r -= v + b_r
        b_r += 2.0 * v
        f = feedback[i // BLOCK]
        if middle == 1:
            line_l[at] = in_l[i] + f * y_l
            line_r[at] = in_r[i] + f * y_r
        else:
            line_l[at] = 0.5 * (in_l[i] + in_r[i]) + f * y_r
            line_r[at] = f * y_l
        if duck > 0.0:
            level = max(abs(in_l[i]), abs(in_r[i]))
            follow = follow + fast * (level - follow) if level > follow else follow * slow
            wet = 1.0 / (1.0 + duck * 24.0 * follow)
        out_l[i] += wet * y_l
        out_r[i] += wet * y_r
        at += 1
        if at == delay:
            at = 0


@njit([f"void({A}, {A}, {A}, {A})"], **OPTIONS)
def cross_four(a, b, c, d):
    """Four rows through a Hadamard matrix, in place."""
    for i in range(len(a)):
        p, q, r, t = a[i] + b[i], a[i] - b[i], c[i] + d[i], c[i] - d[i]
        a[i], b[i], c[i], d[i] = p + r, q + t, p - r, q - t


@njit([f"void({A}, {A}, {A}, {A}, {A}, float32, float32, float32)"], **OPTIONS)
def feed_back(a, b, source, line_a, line_b, gain_a, gain_b, sign):
    """Sum and difference of two rows, on their way into two lines with what comes in."""
    for i in range(len(a)):
        line_a[i] = gain_a * (a[i] + b[i]) + sign * source[i]
        line_b[i] = gain_b * (a[i] - b[i]) + sign * source[i]


@njit([f"float32({A}, {A}, {A}, {A}, {A})"], **OPTIONS)
def tap(out, a, b, c, d):
    """Add half of a - b + c - d to `out`; the sum of its magnitudes."""
    half, total = np.float32(0.5), np.float32(0.0)
    for i in range(len(out)):
        x = half * (a[i] - b[i] + c[i] - d[i])
        out[i] += x
        total += abs(x)
    return total


@njit(f"void({A}, {A}, {A}, {A}, float64, float64, float64)", **OPTIONS)
def tank(in_l, in_r, out_l, out_r, decay_s, damping, size):
    """Reverb: eight delay lines mixed by a Hadamard matrix (Jot and Chaigne 1991). Adds to out_l and out_r.

    `size` scales the lines: 1 is a hall, 0.3 a small room.
    """
    base = np.array([1433, 1601, 1867, 2053, 2251, 2399, 2617, 2797])
    gains, delays, longest, block = np.empty(8, np.float32), np.empty(8, np.int64), 0, 512
    for k in range(8):
        delays[k] = int(base[k] * size) | 1
        gains[k] = 0.35355339 * 10.0 ** (-3.0 * delays[k] / RATE / decay_s)
        longest, block = max(longest, delays[k]), min(block, delays[k])
    # No line is shorter than a block, so a block of every line is known before the block is computed: only the damping
    # runs from sample to sample, all lines at once. The rest is arithmetic on whole blocks, a few rows at a time: with all
    # of them in one loop the compiler gives up showing that they are apart, and takes them sample by sample.
    span, pos = longest + 24 * block, longest
    lines, seg, tail = np.zeros((8, span), np.float32), np.zeros((8, block), np.float32), np.zeros(8, np.float32)
    d, keep, tiny, n = np.float32(damping), np.float32(1.0 - damping), np.float32(TINY), len(in_l)
    resting, quiet = True, 0  # nothing has sounded yet, or for so many samples nothing that could be heard
    for start in range(0, n, block):
        count = min(block, n - start)
        x, y = in_l[start : start + count], in_r[start : start + count]
        loud = np.float32(0.0)
        for i in range(count):
            loud += abs(x[i]) + abs(y[i])
        if loud == 0.0 and resting:
            continue
        resting = False
        for k in range(8):
            first, out = pos - delays[k], seg[k]
            source = lines[k, first : first + count]
            for i in range(count):
                out[i] = d * (source[i] + tiny)
        s0, s1, s2, s3, s4, s5, s6, s7 = (
            seg[0, :count],
            seg[1, :count],
            seg[2, :count],
            seg[3, :count],
            seg[4, :count],
            seg[5, :count],
            seg[6, :count],
            seg[7, :count],
        )
        z0, z1, z2, z3, z4, z5, z6, z7 = tail[0], tail[1], tail[2], tail[3], tail[4], tail[5], tail[6], tail[7]
        for i in range(count):
            z0 = keep * z0 + s0[i]
            z1 = keep * z1 + s1[i]
            z2 = keep * z2 + s2[i]
            z3 = keep * z3 + s3[i]
            z4 = keep * z4 + s4[i]
            z5 = keep * z5 + s5[i]
            z6 = keep * z6 + s6[i]
            z7 = keep * z7 + s7[i]
            s0[i], s1[i], s2[i], s3[i], s4[i], s5[i], s6[i], s7[i] = z0, z1, z2, z3, z4, z5, z6, z7
        tail[0], tail[1], tail[2], tail[3], tail[4], tail[5], tail[6], tail[7] = z0, z1, z2, z3, z4, z5, z6, z7
        loud += tap(out_l[start : start + count], s0, s2, s4, s6)
        loud += tap(out_r[start : start + count], s1, s3, s5, s7)
        cross_four(s0, s1, s2, s3)
        cross_four(s4, s5, s6, s7)
        for k in range(4):
            source, sign = x if k % 2 == 0 else y, np.float32(1.0 if k < 2 else -1.0)
            line_a, line_b = lines[k, pos : pos + count], lines[k + 4, pos : pos + count]
            feed_back(seg[k, :count], seg[k + 4, :count], source, line_a, line_b, gains[k], gains[k + 4], sign)
        pos += count
        quiet = quiet + count if loud < 1e-6 else 0
        if quiet > longest:
            resting, quiet = True, 0
            lines[:], tail[:], pos = 0.0, 0.0, longest
        if pos + block > span:  # back to the front, with as much of the past as the longest line needs
            for k in range(8):
                line = lines[k]
                line[:longest] = line[pos - longest : pos]
            pos = longest


@njit(f"void({A}, {A}, {A}, float64, int64)", **OPTIONS)
def widen(left, right, amount, below_hz, from_mono):
    """Scales the sides above an edge. A mono signal gets sides from itself, 11 ms late, that vanish in mono."""
    c, z1, z2, delay = warp(below_hz), 0.0, 0.0, 485
    a = 1.0 / (1.0 + c * (c + 1.41421356))
    held, at, n = np.zeros(delay, np.float32), 0, len(left)
    for index in range(-(-n // BLOCK)):
        w, step = amount[index], (amount[index + 1] - amount[index]) / BLOCK
        for i in range(index * BLOCK, min(n, index * BLOCK + BLOCK)):
            mid, side = 0.5 * (left[i] + right[i]), 0.5 * (left[i] - right[i])
            scale = w
            if from_mono == 1:
                side, scale = held[at], 0.45 * w
                held[at] = mid
                at += 1
                if at == delay:
                    at = 0
            band = a * (z1 + c * (side + TINY - z2))
            low = z2 + c * band
            z1, z2 = 2 * band - z1 + TINY, 2 * low - z2
            side = scale * (side - 1.41421356 * band - low)
            left[i], right[i] = mid + side, mid - side
            w += step


@njit(f"void({A}, {A}, float64, float64, float64, float64)", **OPTIONS)
def late_take(signal, out, delay, depth, rate_hz, phase):
    """The signal through a delay that breathes: a second take, a little late, a little sharp and flat by turns."""
    n = len(signal)
    for i in range(n):
        at = i - delay - depth * sine(rate_hz * i / RATE + phase)
        k = int(np.floor(at))
        share = at - k
        if k >= 0 and k + 1 < n:
            out[i] = (1.0 - share) * signal[k] + share * signal[k + 1]


@njit(f"void({A}, {A}, float64, int64)", **OPTIONS)
def pitch_shift(signal, out, ratio, seek):
    """Overlapping grains read at another speed, each placed where it continues the last one best, within `seek`
    samples (WSOLA, Verhelst and Roelands 1993). `out` is filled, as long as the signal."""
    width, hop = 2048, 1024
    n = len(signal)
    window, steps, shares = np.empty(width, np.float32), np.empty(width, np.int64), np.empty(width, np.float32)
    for j in range(width):
        window[j] = 0.5 - 0.5 * np.cos(2 * np.pi * j / width)
        steps[j] = int(j * ratio)  # of a grain, the same in each
        shares[j] = j * ratio - steps[j]
    for grain in range(-(-n // hop) + 1):
        start = grain * hop - hop
        loud = False
        for value in signal[max(0, start - seek) : max(0, min(n, start + seek + int(width * ratio) + 2))]:
            if value != 0.0:
                loud = True
                break
        if not loud:
            continue
        best, found = -1e30, 0
        if grain > 0 and seek > 0:
            for shift in range(-seek, seek + 1, 8):
                total, size = 0.0, 1e-9
                for j in range(0, hop, 8):
                    k = start + shift + int(j * ratio)
                    if 0 <= k < n and 0 <= start + j < n:
                        v = signal[k]
                        total += v * out[start + j]
                        size += v * v
                score = total / np.sqrt(size)
                if score > best:
                    best, found = score, shift
        at, low, high = start + found, max(0, -start), min(width, n - start)
        while low < high and at + steps[low] < 0:
            low += 1
        while low < high and at + steps[high - 1] >= n - 1:
            high -= 1
        for j in range(low, high):
            k = at + steps[j]
            out[start + j] += window[j] * (signal[k] + shares[j] * (signal[k + 1] - signal[k]))


@njit(f"void({A}, {A}, int64, int64)", **OPTIONS)
def backwards(signal, out, first, span):
    """Every stretch of `span` samples, counted from index `first`, played from its end; edges faded."""
    n, fade = len(signal), min(96, span // 8)
    for i in range(n):
        inside = (i - first) % span
        source = i - inside + span - 1 - inside
        edge = min(inside, span - 1 - inside)
        level = edge / fade if edge < fade else 1.0
        out[i] = level * signal[source] if 0 <= source < n else 0.0


@njit(f"void({A}, {A}, int64, int64, float64)", **OPTIONS)
def half_speed(signal, out, first, span, mix):
    """The first half of every stretch at half speed, mixed with the signal."""
    n, fade = len(signal), min(96, span // 8)
    for i in range(n):
        inside = (i - first) % span
        at = i - inside + 0.5 * inside
        k = int(np.floor(at))
        share, edge = at - k, min(inside, span - 1 - inside)
        level = edge / fade if edge < fade else 1.0
        v = 0.0
        if k >= 0 and k + 1 < n:
            v = (1.0 - share) * signal[k] + share * signal[k + 1]
        out[i] = (1.0 - mix) * signal[i] + mix * level * v

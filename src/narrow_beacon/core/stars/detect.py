"""Find stars: a matched filter with the star width, local maxima, spikes told by sharpness.

The filter, the threshold and the search for maxima run in one pass over rows that stay in cache.
Touching stars are told apart by their own maxima in the filtered image. Sharpness follows
Stetson (1987, PASP 99, 191).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.stars.background import Background

THRESHOLD = 5.45
"""In units of the filtered noise: about one false star on an exposure of 2048 × 2048 pixels."""
SHARPEST_STAR = 1.3
FLATTEST_STAR = 0.02
FIRST_GUESS_FWHM_PX = 3.5
WIDTHS_PX = (1.2, 1.8, FIRST_GUESS_FWHM_PX, 6.0, 10.0, 16.0, 23.0, 32.0)
WIDE_PX = 8.0
"""Stars wider than this may be rings of light, out of focus."""
RING_WIDTHS = 1.5
"""The filter for a ring of light over the width that has as much light in its half."""
_CANDIDATE = 0.6
"""Share of the threshold from which on a peak of the quick search is weighed."""
_WIDENED = 1.1
"""The filter's width over the stars', whose wings reach farther than a Gaussian's."""
_PIXEL_NOISE = 1.06
"""Of a pixel less the mean of its eight neighbours, in units of a pixel's."""
_LEAST_TO_TELL = 7
_LOOKED_AT = 80
_ALIKE = 0.9
_MOST_PEAKS = 20000
_SPIKE_SIGNIFICANCE = 8.0
_BRIGHT = 500.0
_SCAN = 32
# Fainter stars than these stay at their brightest pixel: nothing hangs on their positions.
_CENTRED, _CENTRED_SNR = 600, 20.0
_HALVED_FWHM_PX = 2.6


@dataclass(frozen=True)
class Detections:
    """Stars found on an image, brightest first; positions are 0-based pixels."""

    x_px: Floats
    y_px: Floats
    flux_adu: Floats
    snr: Floats
    peak_adu: Floats
    elongation: Floats
    angle_deg: Floats
    """Of the longer axis, from +x towards +y, 0 to 180."""
    filter_sigma_px: float
    """Of the Gaussian by which ``flux_adu`` was found: what is the whole light hangs on it."""

    def __len__(self) -> int:
        return self.x_px.size

    def position_error_px(self, fwhm_px: float) -> Floats:
        """Uncertainty of the positions in pixels: width over signal to noise, and a floor for
        what the catalogue, the optics and the air leave.
        """
        return np.hypot(0.7 * fwhm_px / np.maximum(self.snr, 1.0), 0.02)

    def take(self, which: np.ndarray) -> Detections:
        """The detections that an index or mask picks."""
        return Detections(
            self.x_px[which],
            self.y_px[which],
            self.flux_adu[which],
            self.snr[which],
            self.peak_adu[which],
            self.elongation[which],
            self.angle_deg[which],
            self.filter_sigma_px,
        )


@dataclass(frozen=True)
class Found:
    """Stars; (column, row) of single bright pixels that are none; means of blocks of 8 × 8 pixels
    (rows, columns), which come for free and serve the search for trails.
    """

    stars: Detections
    spikes: np.ndarray
    block_means: Plane


def filter_taps(fwhm_px: float) -> Plane:
    """One side of the separable Gaussian filter for a star width: the centre, then the side taps,
    filled up with a zero to an even number.
    """
    sigma = max(fwhm_px, 1.5) / 2.3548
    reach = max(2, min(15, int(np.ceil(2.5 * sigma))))
    taps = np.zeros(2 * ((reach + 1) // 2) + 1, np.float32)
    taps[: reach + 1] = np.exp(-0.5 * (np.arange(reach + 1) / sigma) ** 2)
    return taps


def detect(
    pixels: Plane, background: Background, fwhm_px: float, threshold: float = THRESHOLD
) -> Found:
    """Stars on an image (height, width) whose filtered signal exceeds ``threshold`` times its
    noise, for stars about ``fwhm_px`` wide.
    """
    sigma = max(fwhm_px, 1.5) / 2.3548
    fine = fwhm_px < WIDE_PX
    found, amplitude, blocks = _filtered_peaks(
        pixels, background, fwhm_px, threshold * (_CANDIDATE if fine else 1.0)
    )
    filter_sigma = _WIDENED * sigma if fine else sigma
    filter_gain = float(np.sqrt(np.pi) * filter_sigma)
    if fine:
        found, amplitude = _weighed(pixels, background, found, filter_sigma)
        _, noise = background.at(found[:, 0], found[:, 1])
        sure = amplitude * filter_gain > threshold * noise
        found, amplitude = found[sure], amplitude[sure]
    sky, noise = background.at(found[:, 0], found[:, 1])
    sharp, brightest, peaks = _sharpness(pixels, found, sky)
    sharp = sharp / amplitude
    # Of stars out of focus what is sharp is none, however faint: a piece of a ring.
    sharpest = _sharpest(amplitude, noise, sigma) if fine else SHARPEST_STAR
    flattest = FLATTEST_STAR if fine else -np.inf
    # A star that is bright enough may have a flat top: the camera gives no more.
    star = (sharp < sharpest) & ((sharp > flattest) | (brightest > _BRIGHT * noise))
    spike = (sharp >= sharpest) & (brightest > _SPIKE_SIGNIFICANCE * noise)
    order = np.flatnonzero(star)[np.argsort(-amplitude[star], kind="stable")]
    # From the filter's maximum: the brightest pixel of a faint star is anywhere on it.
    at = (found if fine else peaks)[order].astype(float)
    moments = np.stack([at[:, 0], at[:, 1], np.ones(order.size), np.zeros(order.size)], axis=1)
    sure = amplitude[order] * np.sqrt(np.pi) * sigma > _CENTRED_SNR * noise[order]
    bright = order[: max(_CENTRED, int(sure.sum()))]
    moments[: bright.size] = centroids(
        pixels, at[: bright.size, 0].copy(), at[: bright.size, 1].copy(), sky[bright], sigma
    )
    x, y = moments[:, 0], moments[:, 1]
    amplitude = amplitude[order]
    stars = Detections(
        x_px=x,
        y_px=y,
        flux_adu=amplitude * 2 * np.pi * filter_sigma**2,
        snr=amplitude * filter_gain / noise[order],
        peak_adu=brightest[order],
        elongation=moments[:, 2],
        angle_deg=moments[:, 3],
        filter_sigma_px=filter_sigma,
    )
    # A centroid that wandered off is another star's.
    kept = stars.take(_distinct(x, y, found[order], fwhm_px))
    return Found(kept, peaks[spike], blocks)


def _sharpest(amplitude: Floats, noise: Floats, sigma: float) -> Floats:
    """How sharp a star can be: of a faint one the noise of single pixels says more than its shape,
    but never as much as a spike, all of whose light is in one pixel.
    """
    scatter = _PIXEL_NOISE * noise / amplitude
    of_spike = np.pi * sigma**2
    return np.maximum(
        SHARPEST_STAR, np.minimum(SHARPEST_STAR + 2.0 * scatter, of_spike - 3.0 * scatter)
    )


def _weighed(
    pixels: Plane, background: Background, found: np.ndarray, sigma: float
) -> tuple[np.ndarray, Floats]:
    """The peaks (column, row) near some candidates, each once, and their heights, by a filter on
    the pixels themselves: between pixels, where the star stands.
    """
    reach = int(np.ceil(2.5 * sigma))
    taps = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2).astype(np.float32)
    peaks = np.empty((len(found), 2), np.int32)
    heights = np.empty(len(found))
    _weigh(pixels, background.sky_adu, background.mesh_px, found, taps, peaks, heights)
    _, once = np.unique(peaks[:, 1].astype(np.int64) * pixels.shape[1] + peaks[:, 0], True)
    once = once[heights[once] > 0.0]
    return peaks[once], heights[once] / float(np.sum(taps.astype(float) ** 2)) ** 2


def _filtered_peaks(
    pixels: Plane, background: Background, fwhm_px: float, threshold: float
) -> tuple[np.ndarray, Floats, Plane]:
    """Peaks (column, row), the height of a star that would give each, and means of 8 × 8 blocks.

    Stars wider than ``_HALVED_FWHM_PX`` are sought on an image of half the size, which loses
    next to nothing of them and costs a quarter.
    """
    height, width = pixels.shape
    step = 2 if fwhm_px >= _HALVED_FWHM_PX and min(pixels.shape) >= 64 else 1
    image = pixels
    if step == 2:
        image = np.empty((height // 2, width // 2), np.float32)
        _halve(pixels, image)
    # Averaging 2 × 2 pixels widens the stars a little before the pixels double in size.
    taps = filter_taps(float(np.hypot(fwhm_px, 1.2)) / 2 if step == 2 else fwhm_px)
    norm_1d = float(taps[0] ** 2 + 2 * np.sum(taps[1:] ** 2))
    peaks = np.empty((_MOST_PEAKS, 2), np.int32)
    heights = np.empty(_MOST_PEAKS, np.float32)
    blocks = np.empty((height // 8, width // 8), np.float32)
    count, limit = _MOST_PEAKS, threshold
    while True:
        count = _find_peaks(
            image, background.sky_adu, background.noise_adu / np.float32(step),
            background.mesh_px // step, taps, np.float32(limit * norm_1d), peaks, heights,
            blocks, 8 // step,
        )  # fmt: skip
        if count < _MOST_PEAKS:
            break
        limit *= 1.5  # too many to keep: the brighter ones of all of the image
    amplitude = heights[:count].astype(float) / norm_1d**2
    return peaks[:count] * step + (step - 1), amplitude, blocks


def _distinct(x: Floats, y: Floats, peaks: np.ndarray, fwhm_px: float) -> np.ndarray:
    """Mask of centroids that stayed at their own peak; one that wandered off is another's."""
    reach = max(2.5, 0.3 * fwhm_px)
    return (np.abs(x - peaks[:, 0]) < reach) & (np.abs(y - peaks[:, 1]) < reach)


def _apart(stars: Detections) -> np.ndarray:
    """The brightest detections of which none is near a brighter one: pieces of one star out of
    focus would count as many.
    """
    chosen: list[int] = []
    for n in range(min(len(stars), _LOOKED_AT)):
        away = np.hypot(stars.x_px[chosen] - stars.x_px[n], stars.y_px[chosen] - stars.y_px[n])
        if not chosen or away.min() > WIDTHS_PX[-1]:
            chosen.append(n)
    return np.array(chosen, np.int64)


def likely_width(pixels: Plane, background: Background) -> float:
    """The width in pixels, of a few from undersampled to far out of focus, whose matched filter
    sees the brightest stars best: with its own width a star's signal to noise is highest. Of widths
    that do about as well the largest, which does not see a ring of light as many stars.
    """
    seen = {FIRST_GUESS_FWHM_PX: 0.0}
    for guess in WIDTHS_PX:
        stars = detect(pixels, background, guess).stars
        apart = _apart(stars)
        if apart.size >= _LEAST_TO_TELL:
            seen[guess] = float(np.median(stars.snr[apart[:_LEAST_TO_TELL]]))
    best = max(seen.values())
    return max(guess for guess, snr in seen.items() if snr >= _ALIKE * best)


@njit(cache=True, nogil=True, fastmath=True)
def _convolve_row(padded, taps, out):  # type: ignore[no-untyped-def]
    """Filter along a row that has a margin of as many pixels as there are side taps.

    Two pairs of taps a pass: more arrays than that and the compiler no longer vectorises.
    """
    reach = taps.size - 1
    width = out.size
    middle = padded[reach : reach + width]
    for x in range(width):
        out[x] = taps[0] * middle[x]
    for k in range(1, reach + 1, 2):
        t1, t2 = taps[k], taps[k + 1]
        l1, r1 = padded[reach - k :], padded[reach + k :]
        l2, r2 = padded[reach - k - 1 :], padded[reach + k + 1 :]
        for x in range(width):
            out[x] += t1 * (l1[x] + r1[x]) + t2 * (l2[x] + r2[x])


@njit(cache=True, nogil=True, fastmath=True)
def _convolve_column(ring, y, height, taps, out):  # type: ignore[no-untyped-def]
    """Filter across rows kept in a ring of rows, about image row ``y``; edge rows repeat."""
    reach = taps.size - 1
    span = ring.shape[0]
    width = out.size
    middle = ring[y % span]
    for x in range(width):
        out[x] = taps[0] * middle[x]
    for k in range(1, reach + 1, 2):
        t1, t2 = taps[k], taps[k + 1]
        u1 = ring[min(y + k, height - 1) % span]
        d1 = ring[max(y - k, 0) % span]
        u2 = ring[min(y + k + 1, height - 1) % span]
        d2 = ring[max(y - k - 1, 0) % span]
        for x in range(width):
            out[x] += t1 * (u1[x] + d1[x]) + t2 * (u2[x] + d2[x])


@njit(cache=True, nogil=True)
def _level(nodes, x, y, mesh_px):  # type: ignore[no-untyped-def]
    """Bilinear interpolation of mesh nodes at a pixel."""
    rows, columns = nodes.shape
    v = min(max((y + 0.5) / mesh_px - 0.5, 0.0), rows - 1.0)
    u = min(max((x + 0.5) / mesh_px - 0.5, 0.0), columns - 1.0)
    j, i = int(v), int(u)
    jj, ii = min(j + 1, rows - 1), min(i + 1, columns - 1)
    v -= j
    u -= i
    low = nodes[j, i] * (1.0 - u) + nodes[j, ii] * u
    high = nodes[jj, i] * (1.0 - u) + nodes[jj, ii] * u
    return low * (1.0 - v) + high * v


@njit(cache=True, nogil=True, fastmath=True)
def _find_peaks(pixels, sky, noise, mesh_px, taps, threshold, peaks, heights, blocks, side):  # type: ignore[no-untyped-def]
    """Local maxima of the filtered image; also the means of blocks of ``side`` × ``side`` pixels.

    The sky is not taken off before filtering but after, where something is bright: the filter
    turns a level into the level times the square of the taps' sum.
    """
    height, width = pixels.shape
    reach = taps.size - 1
    span = 2 * reach + 1
    total = taps[0]
    for k in range(1, reach + 1):
        total += 2.0 * taps[k]
    gain = total * total
    padded = np.empty(width + 2 * reach, np.float32)
    across = np.empty((span, width), np.float32)
    filtered = np.empty((3, width), np.float32)
    sums = np.zeros(side * blocks.shape[1], np.float32)
    count = 0
    most = heights.size
    for y in range(height + reach + 1):
        if y < height:
            row = pixels[y]
            padded[:reach] = row[0]
            padded[reach : reach + width] = row
            padded[reach + width :] = row[width - 1]
            _convolve_row(padded, taps, across[y % span])
            _gather_blocks(padded[reach:], y, side, sums, blocks)
        yc = y - reach
        if 0 <= yc < height:
            _convolve_column(across, yc, height, taps, filtered[yc % 3])
        ym = yc - 1
        if ym < 1 or ym >= height - 1:
            continue
        here = filtered[ym % 3]
        above = filtered[(ym + 1) % 3]
        below = filtered[(ym - 1) % 3]
        noise_row = noise[min(ym // mesh_px, noise.shape[0] - 1)]
        right = _level(sky, 1, ym, mesh_px) * gain
        for x0 in range(1, width - 1, _SCAN):
            x1 = min(x0 + _SCAN, width - 1)
            left = right
            right = _level(sky, x1, ym, mesh_px) * gain
            # Most stretches hold nothing bright; one vectorised count passes over them.
            limit = threshold * noise_row[min(x0 // mesh_px, noise.shape[1] - 1)]
            least = np.float32(limit + min(left, right))
            piece = here[x0:x1]
            bright = np.int32(0)
            for x in range(piece.size):
                bright += np.int32(1) if piece[x] > least else np.int32(0)
            if bright == 0:
                continue
            slope = (right - left) / (x1 - x0)
            for x in range(x0, x1):
                v = here[x]
                if v <= least:
                    continue
                if (
                    count < most
                    and v > here[x - 1] and v >= here[x + 1]
                    and v > below[x - 1] and v > below[x] and v > below[x + 1]
                    and v >= above[x - 1] and v >= above[x] and v >= above[x + 1]
                    and v - left - slope * (x - x0) > limit
                ):  # fmt: skip
                    peaks[count, 0] = x
                    peaks[count, 1] = ym
                    heights[count] = v - left - slope * (x - x0)
                    count += 1
    return count


@njit(cache=True, nogil=True, fastmath=True)
def _gather_blocks(row, y, side, sums, blocks):  # type: ignore[no-untyped-def]
    """Add an image row to the column sums; every ``side`` rows they become block means."""
    if y // side >= blocks.shape[0]:
        return
    for x in range(sums.size):
        sums[x] += row[x]
    if y % side == side - 1:
        out = blocks[y // side]
        for i in range(out.size):
            total = np.float32(0.0)
            for x in range(side * i, side * (i + 1)):
                total += sums[x]
            out[i] = total / np.float32(side * side)
        sums[:] = 0.0


@njit(cache=True, nogil=True, fastmath=True)
def _filter_up(pixels, left, low, taps, up):  # type: ignore[no-untyped-def]
    """Pixels from column ``left`` on filtered along the columns, in five rows that follow each
    other, all of what they need on the image; rows side by side keep the processor busy.
    """
    wide = up.shape[1]
    for j in range(5):
        out = up[j]
        out[:] = 0.0
        for k in range(taps.size):
            t, row = taps[k], pixels[low + j + k, left : left + wide]
            for x in range(row.size):
                out[x] += t * row[x]


@njit(cache=True, nogil=True)
def _filter_up_at_edge(pixels, left, low, taps, up):  # type: ignore[no-untyped-def]
    """The same where some are beyond the image, whose edge repeats."""
    height, width = pixels.shape
    for j in range(5):
        for i in range(up.shape[1]):
            total = np.float32(0.0)
            for k in range(taps.size):
                row = min(max(low + j + k, 0), height - 1)
                total += taps[k] * pixels[row, min(max(left + i, 0), width - 1)]
            up[j, i] = total


@njit(cache=True, nogil=True, fastmath=True)
def _weigh(pixels, sky, mesh_px, found, taps, peaks, heights):  # type: ignore[no-untyped-def]
    """Filter the five by five pixels about each candidate, climb to their maximum, and fill in
    where it is and how high it is between the pixels; nothing where it is at the image's edge.
    """
    height, width = pixels.shape
    reach = taps.size // 2
    total = 0.0
    for k in range(taps.size):
        total += taps[k]
    gain = total * total
    up = np.empty((5, 2 * reach + 5), np.float32)
    block = np.empty((5, 5))
    for n in range(found.shape[0]):
        x, y = found[n, 0], found[n, 1]
        heights[n] = 0.0
        peaks[n, 0], peaks[n, 1] = x, y
        for _ in range(4):
            left, low = x - 2 - reach, y - reach - 2
            if left >= 0 and low >= 0 and x + 2 + reach < width and y + 2 + reach < height:
                _filter_up(pixels, left, low, taps, up)
            else:
                _filter_up_at_edge(pixels, left, low, taps, up)
            best = -1e30
            bi = bj = 2
            for j in range(5):
                s0 = s1 = s2 = s3 = s4 = 0.0
                row = up[j]
                for k in range(taps.size):
                    t = taps[k]
                    s0 += t * row[k]
                    s1 += t * row[k + 1]
                    s2 += t * row[k + 2]
                    s3 += t * row[k + 3]
                    s4 += t * row[k + 4]
                block[j, 0], block[j, 1], block[j, 2], block[j, 3], block[j, 4] = s0, s1, s2, s3, s4
                for i in range(5):
                    if block[j, i] > best:
                        best, bi, bj = block[j, i], i, j
            inside = 0 < bi < 4 and 0 < bj < 4
            x, y = x + bi - 2, y + bj - 2
            if inside or x < 1 or y < 1 or x > width - 2 or y > height - 2:
                break
        if not inside or x < 1 or y < 1 or x > width - 2 or y > height - 2:
            continue
        # A parabola through the maximum and its neighbours along either axis.
        value = best
        for before, after in (
            (block[bj, bi - 1], block[bj, bi + 1]), (block[bj - 1, bi], block[bj + 1, bi])
        ):  # fmt: skip
            bend = before + after - 2.0 * best
            if bend < 0.0:
                value -= (after - before) ** 2 / (8.0 * bend)
        peaks[n, 0], peaks[n, 1] = x, y
        heights[n] = value - gain * _level(sky, x, y, mesh_px)


@njit(cache=True, nogil=True, fastmath=True)
def _halve(pixels, out):  # type: ignore[no-untyped-def]
    """Means of 2 × 2 pixels."""
    for y in range(out.shape[0]):
        low, high, row = pixels[2 * y], pixels[2 * y + 1], out[y]
        for x in range(row.size):
            row[x] = np.float32(0.25) * (
                (low[2 * x] + low[2 * x + 1]) + (high[2 * x] + high[2 * x + 1])
            )


@njit(cache=True, nogil=True)
def _sharpness(pixels, peaks, sky):  # type: ignore[no-untyped-def]
    """Brightest pixel near each peak less the mean of its neighbours, and that pixel.

    Also its height above the sky and where it is.
    """
    height, width = pixels.shape
    count = peaks.shape[0]
    sharp = np.empty(count)
    brightest = np.empty(count)
    at = np.empty((count, 2), np.int32)
    for n in range(count):
        best = np.float32(-1e30)
        bx, by = peaks[n, 0], peaks[n, 1]
        for y in range(max(peaks[n, 1] - 2, 1), min(peaks[n, 1] + 2, height - 1)):
            for x in range(max(peaks[n, 0] - 2, 1), min(peaks[n, 0] + 2, width - 1)):
                if pixels[y, x] > best:
                    best = pixels[y, x]
                    bx, by = x, y
        total = 0.0
        for y in range(by - 1, by + 2):
            for x in range(bx - 1, bx + 2):
                total += pixels[y, x]
        sharp[n] = best - (total - best) / 8.0
        brightest[n] = best - sky[n]
        at[n, 0] = bx
        at[n, 1] = by
    return sharp, brightest, at


@njit(cache=True, nogil=True, fastmath=True)
def centroids(pixels, x_px, y_px, sky, sigma):  # type: ignore[no-untyped-def]
    """Windowed centroids: x, y (0-based), elongation and its angle of each star, (stars, 4).

    A Gaussian window of the star's width is moved until its weighted centre stays put (windowed
    moments: Bertin & Arnouts 1996, A&AS 117, 393). The elongation has the window taken out.
    """
    height, width = pixels.shape
    result = np.empty((x_px.size, 4))
    reach = int(np.ceil(3.0 * sigma)) + 1
    span = 2 * reach + 1
    # The window along a row, and that times the distance from its middle and its square.
    w0, w1, w2 = np.empty(span), np.empty(span), np.empty(span)
    scale = 0.5 / sigma**2
    bell = np.exp(-scale * (np.arange(span) - reach) ** 2)
    for n in range(x_px.size):
        x, y = x_px[n], y_px[n]
        elongation = 1.0
        angle = 0.0
        for turn in range(12):
            xi, yi = int(np.rint(x)), int(np.rint(y))
            fx, fy = xi - x, yi - y
            # exp(−s·(i + f)²) = exp(−s·i²) · exp(−s·f²) · exp(−2·s·f)ⁱ
            step, power = np.exp(-2.0 * scale * fx), np.exp(scale * (2.0 * fx * reach - fx * fx))
            for i in range(span):
                w0[i] = bell[i] * power
                w1[i] = w0[i] * (i - reach + fx)
                w2[i] = w1[i] * (i - reach + fx)
                power *= step
            up, power = np.exp(-2.0 * scale * fy), np.exp(scale * (2.0 * fy * reach - fy * fy))
            first, last = max(0, reach - xi), min(span, width - xi + reach)
            total = sx = sy = sxx = syy = sxy = 0.0
            for j in range(span):
                row = yi + j - reach
                if 0 <= row < height and last > first:
                    line = pixels[row, xi - reach + first : xi - reach + last]
                    r0 = r1 = r2 = 0.0
                    for i in range(line.size):
                        v = line[i] - sky[n]
                        r0 += v * w0[first + i]
                        r1 += v * w1[first + i]
                        r2 += v * w2[first + i]
                    dy, wy = j - reach + fy, bell[j] * power
                    total += wy * r0
                    sx += wy * r1
                    sy += wy * dy * r0
                    sxx += wy * r2
                    syy += wy * dy * dy * r0
                    sxy += wy * dy * r1
                power *= up
            if total <= 0.0:
                break
            step_x, step_y = 2.0 * sx / total, 2.0 * sy / total
            size = np.hypot(step_x, step_y)
            if size > 1.5:
                step_x, step_y = 1.5 * step_x / size, 1.5 * step_y / size
            x += step_x
            y += step_y
            if size < 0.01 or turn == 11:
                a, b, c = sxx / total, syy / total, sxy / total
                det = a * b - c * c
                if det > 0.0:
                    # C_star⁻¹ = C_measured⁻¹ − C_window⁻¹
                    p, q, r = b / det - 2 * scale, a / det - 2 * scale, -c / det
                    half = 0.5 * (p + q)
                    root = np.sqrt(0.25 * (p - q) ** 2 + r * r)
                    if half - root > 1e-6:
                        elongation = np.sqrt((half + root) / (half - root))
                        # The short axis is where C_star⁻¹ is largest; the long one across it.
                        angle = np.degrees(0.5 * np.arctan2(2.0 * r, p - q) + 0.5 * np.pi) % 180.0
                break
        result[n, 0] = x
        result[n, 1] = y
        result[n, 2] = elongation
        result[n, 3] = angle
    return result

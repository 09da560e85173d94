"""Sky background and noise on a mesh, by clipped medians of a sample of each cell's pixels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints, Plane, alike, flat, middle, sort_few

MESH_PX = 64
_ROW_STEP, _COLUMN_STEP = 4, 4
_BINS, _BIN_REACH = 256, 8.0
"""Bins of a sixteenth of the scatter, as far as eight times that to either side."""
_COARSE = 3.0
"""Scatter in steps of the values below which these are spread."""
_LEAST_STEPS = np.float32(0.5)
"""And the least of it: rounding alone scatters by 0.3, and few values say what the rest is."""
_GOLDEN = 0.6180339887498949
_ALIKE = 1.5
"""Factor by which cells' scatters, and scatters by which their levels, may differ for the same bins
to serve both."""


@dataclass(frozen=True)
class Background:
    """Sky level and noise at the centres of mesh cells, (rows, columns) of the mesh, in ADU."""

    sky_adu: Plane
    noise_adu: Plane
    mesh_px: int
    shape: tuple[int, int]

    @property
    def median_sky_adu(self) -> float:
        """Sky of the exposure as a whole."""
        return middle(self.sky_adu)

    @property
    def median_noise_adu(self) -> float:
        """Noise of a sky pixel of the exposure as a whole."""
        return middle(self.noise_adu)

    def at(self, x_px: Floats | Ints, y_px: Floats | Ints) -> tuple[Floats, Floats]:
        """Sky and noise of the cells that hold the positions (0-based pixels)."""
        x, y = alike(x_px, y_px)
        sky, noise = np.empty(x.shape), np.empty(x.shape)
        _cells_at(
            self.sky_adu, self.noise_adu, self.mesh_px, flat(x), flat(y), flat(sky), flat(noise)
        )
        return sky, noise


def measure_background(
    pixels: Plane, mesh_px: int = MESH_PX, *, step_adu: float = 0.0
) -> Background:
    """Background of an image (height, width) in its own unit.

    Each cell: a sample of its pixels is clipped at 2.5 times the scatter of its lower half, then
    its median and that scatter are taken; a 3 × 3 median over cells removes bright stars. Where
    values come in steps of ``step_adu``, not far below the scatter, each value of the sample is
    spread evenly over its step first: else most of them are equal, and both come out as steps.
    """
    height, width = pixels.shape
    rows = max(1, round(height / mesh_px))
    columns = max(1, round(width / mesh_px))
    sky = np.empty((rows, columns), np.float32)
    noise = np.empty((rows, columns), np.float32)
    _mesh(pixels, mesh_px, np.float32(step_adu), sky, noise)
    return Background(
        _mean_of_nine(_median_of_nine(sky), slopes=True),
        # Noise follows the square root of the sky, so that it changes less from cell to cell.
        np.maximum(_calm(noise), np.float32(1e-3)),
        mesh_px,
        (height, width),
    )


def _calm(noise: Plane) -> Plane:
    once = _mean_of_nine(_median_of_nine(noise), slopes=False)
    return _mean_of_nine(once, slopes=False)


def _mean_of_nine(cells: Plane, *, slopes: bool) -> Plane:
    """Mean of each cell and those around it; at the edge a slope goes on, where there are any.

    A sample says a cell's sky to a tenth of its noise, which would show as false stars.
    """
    if min(cells.shape) < 2:
        return cells
    result = np.empty_like(cells)
    _means(cells, slopes, result)
    return result


def _median_of_nine(cells: Plane) -> Plane:
    """Median of each cell and those around it; the edge repeats."""
    result = np.empty_like(cells)
    _medians(cells, result)
    return result


@njit(cache=True, nogil=True)
def _means(cells, slopes, result):  # type: ignore[no-untyped-def]
    rows, columns = cells.shape
    for row in range(rows):
        for column in range(columns):
            total = 0.0
            for dj in range(-1, 2):
                for di in range(-1, 2):
                    j, i = row + dj, column + di
                    jj, ii = min(max(j, 0), rows - 1), min(max(i, 0), columns - 1)
                    value = np.float64(cells[jj, ii])
                    if slopes and (jj != j or ii != i):
                        # Beyond the edge as much more as it is less inside.
                        value = 2.0 * value - cells[2 * jj - j, 2 * ii - i]
                    total += value
            result[row, column] = total / 9.0


@njit(cache=True, nogil=True)
def _medians(cells, result):  # type: ignore[no-untyped-def]
    rows, columns = cells.shape
    around = np.empty(9, np.float32)
    for row in range(rows):
        for column in range(columns):
            for k in range(9):
                j, i = row + k // 3 - 1, column + k % 3 - 1
                around[k] = cells[min(max(j, 0), rows - 1), min(max(i, 0), columns - 1)]
            sort_few(around)
            result[row, column] = around[4]


@njit(cache=True, nogil=True)
def _clipped(sample, bins, middle, scatter):  # type: ignore[no-untyped-def]
    """Median of a sample and the scatter of its lower half, clipped: by counts in bins about a
    level, with a scatter that is not 0, as the cell before had them; where this one differs, about
    what every fourth value says. That is quicker than to sort all.
    """
    if scatter > 0.0:
        median, lower = _by_bins(sample, bins, middle, scatter)
        away, ratio = abs(median - middle), lower / scatter
        if away < _ALIKE * scatter and 1.0 / _ALIKE < ratio < _ALIKE:
            return median, lower
    rough = np.sort(sample[::4])
    middle = rough[rough.size // 2]
    scatter = middle - rough[int(0.1587 * rough.size)]
    if not 0.0 < scatter < np.inf:
        values = np.sort(sample)
        middle = values[values.size // 2]
        return middle, max(middle - values[int(0.1587 * values.size)], np.float32(0.0))
    return _by_bins(sample, bins, middle, scatter)


@njit(cache=True, nogil=True)
def _by_bins(sample, bins, middle, scatter):  # type: ignore[no-untyped-def]
    """Clipped median and scatter of the lower half by ``bins``, which then hold how many values
    lie below the end of each.
    """
    width = scatter * (_BIN_REACH * 2.0 / _BINS)
    lowest = middle - _BIN_REACH * scatter
    per_bin = 1.0 / width
    bins[:] = 0
    for value in sample:
        place = (value - lowest) * per_bin
        place = place if place > 0.0 else 0.0  # nor has what is no number a place
        bins[np.uint32(place if place < _BINS - 1.0 else _BINS - 1.0)] += 1
    so_far = np.int32(0)
    for n in range(_BINS):
        so_far += bins[n]
        bins[n] = so_far
    first, last = 0, _BINS
    median = lower = 0.0
    for _ in range(6):
        below = bins[first - 1] if first else 0
        total = bins[last - 1] - below
        median = lowest + width * _quantile(bins, first, last, below + 0.5 * total)
        lower = lowest + width * _quantile(bins, first, last, below + 0.1587 * total)
        if not (np.isfinite(median) and np.isfinite(lower)):
            break
        low = max(first, int((median - 3.5 * (median - lower) - lowest) / width))
        high = min(last, int((median + 2.5 * (median - lower) - lowest) / width) + 1)
        low, high = min(low, last - 1), max(high, first + 1)
        if low == first and high == last:
            break
        first, last = low, high
    return np.float32(median), np.float32(median - lower)


@njit(cache=True, nogil=True)
def _quantile(bins, first, last, wanted):  # type: ignore[no-untyped-def]
    """The place among the bins, from ``first`` to ``last``, below which so many values lie."""
    low, high = first, last - 1
    while low < high:
        middle = (low + high) // 2
        if bins[middle] < wanted:
            low = middle + 1
        else:
            high = middle
    below = bins[low - 1] if low else 0
    return low + (wanted - below) / max(bins[low] - below, 1)


@njit(cache=True, nogil=True)
def _mesh(pixels, mesh_px, step, sky, noise):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    rows, columns = sky.shape
    room = (2 * mesh_px // _ROW_STEP + 1) * (2 * mesh_px // _COLUMN_STEP + 1)
    sample = np.empty(room, np.float32)
    bins = np.empty(_BINS, np.int32)
    level = scatter = np.float32(0.0)
    for j in range(rows):
        y0 = j * mesh_px
        y1 = height if j == rows - 1 else (j + 1) * mesh_px
        for i in range(columns):
            x0 = i * mesh_px
            x1 = width if i == columns - 1 else (i + 1) * mesh_px
            count = 0
            for y in range(y0, y1, _ROW_STEP):
                # Stagger the rows so that no column is always or never sampled.
                for x in range(x0 + (5 * (y // _ROW_STEP)) % _COLUMN_STEP, x1, _COLUMN_STEP):
                    sample[count] = pixels[y, x]
                    count += 1
            level, scatter = _clipped(sample[:count], bins, level, scatter)
            if scatter < _COARSE * step:
                for n in range(count):
                    sample[n] += step * np.float32(n * _GOLDEN % 1.0 - 0.5)
                level, scatter = _clipped(sample[:count], bins, level, step)
                square = scatter * scatter - step * step / np.float32(12.0)
                scatter = max(np.sqrt(max(square, np.float32(0.0))), _LEAST_STEPS * step)
            sky[j, i], noise[j, i] = level, scatter


@njit(cache=True, nogil=True)
def _cells_at(sky, noise, mesh_px, xs, ys, own_sky, own_noise):  # type: ignore[no-untyped-def]
    """``Background.at``; a place that is no number is in the first cell."""
    rows, columns = sky.shape
    for n in range(xs.size):
        i, j = xs[n] / mesh_px, ys[n] / mesh_px
        column = int(min(i, columns - 1.0)) if i > 0.0 else 0
        row = int(min(j, rows - 1.0)) if j > 0.0 else 0
        own_sky[n], own_noise[n] = sky[row, column], noise[row, column]


@njit(cache=True, nogil=True)
def level_at(nodes, x, y, mesh_px):  # type: ignore[no-untyped-def]
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

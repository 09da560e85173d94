"""Sky background and noise on a mesh, by clipped medians of a sample of each cell's pixels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from narrow_beacon.core.arrays import Floats, Plane

MESH_PX = 64
_ROW_STEP, _COLUMN_STEP = 8, 8


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
        return float(np.median(self.sky_adu))

    @property
    def median_noise_adu(self) -> float:
        """Noise of a sky pixel of the exposure as a whole."""
        return float(np.median(self.noise_adu))

    def at(self, x_px: Floats, y_px: Floats) -> tuple[Floats, Floats]:
        """Sky and noise of the cells that hold the positions (0-based pixels)."""
        rows, columns = self.sky_adu.shape
        j = np.clip((np.asarray(y_px) // self.mesh_px).astype(int), 0, rows - 1)
        i = np.clip((np.asarray(x_px) // self.mesh_px).astype(int), 0, columns - 1)
        return self.sky_adu[j, i].astype(float), self.noise_adu[j, i].astype(float)


def measure_background(pixels: Plane, mesh_px: int = MESH_PX) -> Background:
    """Background of an image (height, width) in its own unit.

    Each cell: a sample of its pixels is clipped at 2.5 times the scatter of its lower half, then
    its median and that scatter are taken; a 3 × 3 median over cells removes bright stars.
    """
    height, width = pixels.shape
    rows = max(1, round(height / mesh_px))
    columns = max(1, round(width / mesh_px))
    sky = np.empty((rows, columns), np.float32)
    noise = np.empty((rows, columns), np.float32)
    _mesh(pixels, mesh_px, sky, noise)
    return Background(
        _median_of_nine(sky),
        np.maximum(_median_of_nine(noise), np.float32(1e-3)),
        mesh_px,
        (height, width),
    )


def _median_of_nine(cells: Plane) -> Plane:
    """Median of each cell and those around it; the edge repeats."""
    padded = np.pad(cells, 1, mode="edge")
    rows, columns = cells.shape
    around = [padded[j : j + rows, i : i + columns] for j in range(3) for i in range(3)]
    return np.median(around, axis=0).astype(np.float32)


@njit(cache=True, nogil=True)
def _mesh(pixels, mesh_px, sky, noise):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    rows, columns = sky.shape
    room = (2 * mesh_px // _ROW_STEP + 1) * (2 * mesh_px // _COLUMN_STEP + 1)
    sample = np.empty(room, np.float32)
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
            values = np.sort(sample[:count])
            first, last = 0, count
            for _ in range(5):
                middle = (first + last) // 2
                median = values[middle]
                scatter = median - values[first + int(0.1587 * (last - first))]
                low, high = first, last
                while low < middle and values[low] < median - 3.5 * scatter:
                    low += 1
                while high > middle + 1 and values[high - 1] > median + 2.5 * scatter:
                    high -= 1
                if low == first and high == last:
                    break
                first, last = low, high
            sky[j, i] = values[(first + last) // 2]
            noise[j, i] = max(scatter, np.float32(0.0))

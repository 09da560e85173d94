"""Where the middle of a star is, and its shape by second moments."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.prefetch import fetch_ahead


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
        if n + 1 < x_px.size:
            fetch_ahead(pixels, x_px[n + 1], y_px[n + 1], reach)
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
                    line, left = np.uint64(row), np.uint64(first)
                    begin = np.uint64(xi - reach + first)
                    r0 = r1 = r2 = 0.0
                    for i in range(np.uint64(last - first)):
                        v = pixels[line, begin + i] - sky[n]
                        r0 += v * w0[left + i]
                        r1 += v * w1[left + i]
                        r2 += v * w2[left + i]
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

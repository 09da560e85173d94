"""A finder chart to print: the target, its comparison and check stars among the field's, from the
catalogue or over an exposure. Black on white, as it is used under the sky.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.time import julian_year
from narrow_beacon.core.place.solution import Solution, deproject, project
from narrow_beacon.plan import Plan, PlanError
from narrow_beacon.reduce.field import field_of

FORMATS = ("svg", "pdf", "png")
_SIDE_IN, _HIGHER = 6.4, 1.09
_SIDE_PX = 800
_INK, _QUIET, _MARK = "#111111", "#777777", "#8a2f1d"
_LARGEST, _SMALLEST = 110.0, 1.5
"""Areas of the brightest and the faintest star, in points squared."""
_DEPTH_MAG = 6.0
_BARS_ARCMIN = (0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 30.0, 60.0, 120.0)


@dataclass(frozen=True)
class Look:
    """How a chart is drawn: its side in minutes of arc, which way is up (degrees from north through
    east), whether east is to the right (as in a mirror), and how faint stars may be.
    """

    width_arcmin: float = 20.0
    up_deg: float = 0.0
    mirrored: bool = False
    faintest: float | None = None
    points: bool = False
    """Whether magnitudes keep their decimal point; without it none is taken for a star."""


@dataclass(frozen=True)
class Parts:
    """Catalogue rows of those that are marked."""

    target: int
    comparison: tuple[int, ...] = ()
    checks: tuple[int, ...] = ()
    name: str = ""
    """What the target is called on the chart; as in the catalogue without it."""


@dataclass(frozen=True)
class Backdrop:
    """An exposure to draw the chart over: its corrected pixels, its solution, and its sky and
    noise in ADU.
    """

    pixels: Plane
    solution: Solution
    sky_adu: float
    noise_adu: float


def magnitude_words(magnitude: float, *, point: bool = False) -> str:
    """A magnitude to a tenth, without the decimal point unless ``point``: 12.4 is 124."""
    if not np.isfinite(magnitude):
        return ""
    return f"{magnitude:.1f}" if point else f"{magnitude:.1f}".replace(".", "")


def draw_finder(
    stars: StarTable,
    band: str,
    parts: Parts,
    year: float,
    path: Path,
    look: Look = Look(),
    backdrop: Backdrop | None = None,
) -> None:
    """Draw the chart about the target to a file, whose ending says the format."""
    import matplotlib
    from matplotlib.figure import Figure

    ra, dec = stars.at_epoch(year)
    ra0, dec0 = float(ra[parts.target]), float(dec[parts.target])
    east, north = project(ra, dec, ra0, dec0)
    x, y = _turned(60.0 * east, 60.0 * north, look)
    half = look.width_arcmin / 2
    inside = (np.abs(x) < half) & (np.abs(y) < half)
    with matplotlib.rc_context(
        {"svg.hashsalt": "narrow beacon", "font.size": 8, "text.color": _INK,
         "axes.edgecolor": _INK, "axes.linewidth": 0.8}
    ):  # fmt: skip
        figure = Figure(figsize=(_SIDE_IN, _SIDE_IN * _HIGHER))
        axes = figure.add_axes((0.03, 0.03 / _HIGHER, 0.94, 0.94 / _HIGHER))
        axes.set_xlim(-half, half)
        axes.set_ylim(-half, half)
        axes.set_xticks([])
        axes.set_yticks([])
        magnitude = stars.bands[band].magnitude
        if backdrop is None:
            _dots(axes, x[inside], y[inside], magnitude[inside], look)
        else:
            axes.imshow(
                _sky_picture(backdrop, ra0, dec0, look), cmap="gray", vmin=0, vmax=1,
                extent=(-half, half, -half, half), origin="lower", interpolation="nearest",
            )  # fmt: skip
        _marks(axes, x, y, magnitude, parts, look)
        _compass(axes, half, look)
        _bar(axes, half)
        name = parts.name or stars.names[parts.target]
        figure.text(0.03, 0.965, name, fontsize=13, fontweight="bold")
        figure.text(0.03, 0.935, f"{_position(ra0, dec0)}  ({year:.1f})", fontsize=8.5)
        side = f"{look.width_arcmin:g}′ × {look.width_arcmin:g}′, magnitudes in {band}"
        figure.text(0.97, 0.965, side, ha="right", fontsize=8.5)
        figure.text(0.97, 0.935, _legend(parts, magnitude, look), ha="right", fontsize=8.5)
        kind = path.suffix.lstrip(".")
        # Without a date: the same chart gives the same file.
        date = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}.get(kind)
        figure.savefig(path, format=kind, dpi=160, metadata=date)


def _turned(east: np.ndarray, north: np.ndarray, look: Look) -> tuple[np.ndarray, np.ndarray]:
    """Where offsets in the sky are on the chart: to the right, and up."""
    turn = np.radians(look.up_deg)
    up = north * np.cos(turn) + east * np.sin(turn)
    aside = east * np.cos(turn) - north * np.sin(turn)
    return (aside if look.mirrored else -aside), up


def _on_sky(x: np.ndarray, y: np.ndarray, look: Look) -> tuple[np.ndarray, np.ndarray]:
    """What ``_turned`` made places of."""
    turn = np.radians(look.up_deg)
    aside = x if look.mirrored else -x
    return aside * np.cos(turn) + y * np.sin(turn), y * np.cos(turn) - aside * np.sin(turn)


def _dots(axes: Any, x: np.ndarray, y: np.ndarray, magnitude: np.ndarray, look: Look) -> None:
    known = np.isfinite(magnitude)
    if not known.any():
        return
    bright = float(np.min(magnitude[known]))
    faint = look.faintest if look.faintest is not None else bright + _DEPTH_MAG
    shown = known & (magnitude <= faint)
    share = np.clip((faint - magnitude[shown]) / max(faint - bright, 1e-3), 0.0, 1.0)
    size = _SMALLEST * (_LARGEST / _SMALLEST) ** share
    axes.scatter(x[shown], y[shown], s=size, c=_INK, linewidths=0.4, edgecolors="white")


def _sky_picture(backdrop: Backdrop, ra0: float, dec0: float, look: Look) -> np.ndarray:
    """The exposure on the chart's own grid, stars dark on white (side, side)."""
    half = look.width_arcmin / 2
    grid = (np.arange(_SIDE_PX) + 0.5) / _SIDE_PX * 2 * half - half
    east, north = _on_sky(*np.meshgrid(grid, grid), look)
    ra, dec = deproject(east / 60.0, north / 60.0, ra0, dec0)
    px, py = backdrop.solution.pixel(ra.ravel(), dec.ravel())
    height, width = backdrop.pixels.shape
    there = np.isfinite(px) & np.isfinite(py) & (px > -0.5) & (py > -0.5)
    there &= (px < width - 0.5) & (py < height - 0.5)
    values = np.full(px.size, np.nan)
    column, row = np.rint(px[there]).astype(int), np.rint(py[there]).astype(int)
    values[there] = backdrop.pixels[row, column]
    level = (values - backdrop.sky_adu) / max(backdrop.noise_adu, 1e-9)
    shade = np.arcsinh(np.clip(level, -2.0, None) / 4.0) / np.arcsinh(30.0)
    return 1.0 - np.clip(np.nan_to_num(shade), 0.0, 1.0).reshape(_SIDE_PX, _SIDE_PX)


def _marks(
    axes: Any, x: np.ndarray, y: np.ndarray, magnitude: np.ndarray, parts: Parts, look: Look
) -> None:
    """The shapes of the page: a lozenge, numbered brackets, a triangle."""
    r = 0.022 * look.width_arcmin
    line = {"color": _MARK, "linewidth": 1.1, "solid_joinstyle": "miter"}

    def word(row: int, text: str) -> None:
        # To the left where it would run out of the frame.
        side = -1 if x[row] > 0.75 * look.width_arcmin / 2 else 1
        axes.annotate(
            text, (x[row] + side * 1.5 * r, y[row]), va="center", fontsize=8, color=_MARK,
            ha="left" if side > 0 else "right", annotation_clip=True,
        )  # fmt: skip

    t = parts.target
    axes.plot(x[t] + r * np.array([0, 1, 0, -1, 0]), y[t] + r * np.array([1, 0, -1, 0, 1]), **line)
    for number, row in enumerate(parts.comparison, 1):
        for side in (-1, 1):
            axes.plot(
                x[row] + side * r * np.array([0.45, 0.9, 0.9, 0.45]),
                y[row] + r * np.array([0.9, 0.9, -0.9, -0.9]), **line,
            )  # fmt: skip
        known = magnitude_words(magnitude[row], point=look.points)
        word(row, f"{number}  {known}".rstrip())
    for number, k in enumerate(parts.checks, 1):
        axes.plot(
            x[k] + r * np.array([0, 1.1, -1.1, 0]), y[k] + r * np.array([1.2, -0.8, -0.8, 1.2]),
            **line,
        )  # fmt: skip
        name = "K" if len(parts.checks) == 1 else f"K{number}"
        word(k, f"{name}  {magnitude_words(magnitude[k], point=look.points)}".rstrip())


def _compass(axes: Any, half: float, look: Look) -> None:
    x0, y0, size = -0.78 * half, -0.78 * half, 0.12 * half
    for text, east, north in (("N", 0.0, 1.0), ("E", 1.0, 0.0)):
        dx, dy = (float(v[0]) for v in _turned(np.array([east]), np.array([north]), look))
        axes.annotate(
            "", (x0 + size * dx, y0 + size * dy), (x0, y0),
            arrowprops={"arrowstyle": "-|>", "color": _INK, "linewidth": 0.9, "shrinkA": 0},
        )  # fmt: skip
        place = x0 + 1.35 * size * dx, y0 + 1.35 * size * dy
        axes.text(*place, text, ha="center", va="center", fontsize=9)


def _bar(axes: Any, half: float) -> None:
    length = max((b for b in _BARS_ARCMIN if b < 0.5 * half), default=_BARS_ARCMIN[0])
    x1, y = 0.92 * half, -0.92 * half
    axes.plot([x1 - length, x1], [y, y], color=_INK, linewidth=1.6, solid_capstyle="butt")
    words = f"{length:g}′" if length >= 1 else f"{60 * length:g}″"
    axes.text(x1 - length / 2, y + 0.03 * half, words, ha="center", va="bottom", fontsize=8.5)


def _legend(parts: Parts, magnitude: np.ndarray, look: Look) -> str:
    known = magnitude_words(magnitude[parts.target], point=True)
    words = [f"target {known}".rstrip()]
    if parts.comparison:
        words.append("comparison stars in brackets")
    if parts.checks:
        words.append("K: check star" + ("s" if len(parts.checks) > 1 else ""))
    if not look.points and (parts.comparison or parts.checks):
        words.append("124 is 12.4")
    return ", ".join(words)


def _position(ra_deg: float, dec_deg: float) -> str:
    seconds = round(ra_deg / 15 * 3600, 1)
    hours, rest = divmod(seconds, 3600)
    minutes, last = divmod(rest, 60)
    sign = "−" if dec_deg < 0 else "+"
    arcsec = round(abs(dec_deg) * 3600)
    degrees, left = divmod(arcsec, 3600)
    return (
        f"{int(hours) % 24:02d} {int(minutes):02d} {last:04.1f}  "
        f"{sign}{degrees:02d} {left // 60:02d} {left % 60:02d}"
    )


def chart_of_plan(plan: Plan, path: Path, look: Look, band: str, year: float | None) -> str:
    """Draw the chart of a plan's target and cast from its catalogue; words on what was drawn.

    Raises PlanError where the target is not known, or the catalogue lacks the band.
    """
    found = field_of(plan, ())
    stars, known = found.stars, ", ".join(found.stars.bands)
    if found.target is None:
        raise PlanError([f"{plan.path.name}: the catalogue does not know the target"])
    chosen = band or ("V" if "V" in stars.bands else next(iter(stars.bands), ""))
    if chosen not in stars.bands:
        raise PlanError([f"{plan.path.name}: the catalogue has no band {chosen} (it has {known})"])
    parts = Parts(
        found.target, tuple(stars.row(name) for name in plan.comparison),
        tuple(stars.row(name) for name in plan.checks),
    )  # fmt: skip
    now = julian_year(datetime.now(UTC).replace(tzinfo=None)) if year is None else year
    draw_finder(stars, chosen, parts, now, path, look)
    side = f"{look.width_arcmin:g}′ × {look.width_arcmin:g}′"
    return f"{path}: {stars.names[parts.target]}, {side}, {len(parts.comparison)} comparison stars"

"""A light curve as SVG, written as it is: no plotting library has to be loaded for the figure that
every reduction makes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from xml.sax.saxutils import escape

import numpy as np

_FONT = "font-family='DejaVu Sans, Verdana, sans-serif'"
_LEFT, _RIGHT, _TOP, _BOTTOM, _TITLE = 58.0, 10.0, 18.0, 42.0, 14.0
_BETWEEN, _APART = 8.0, 10.0
_MARGIN = 0.06
_QUOTE = {"'": "&#39;"}
_MARK, _TICK = 2.0, 3.5
_ROUND = f"a{_MARK} {_MARK} 0 1 0 {2 * _MARK} 0a{_MARK} {_MARK} 0 1 0 {-2 * _MARK} 0"
_STEPS = (1.0, 2.0, 2.5, 5.0, 10.0)


@dataclass(frozen=True)
class Marks:
    """Points of one colour in a panel: places, values (magnitudes, upside down) and bars; hollow
    ones are doubtful, limits point downwards.
    """

    name: str
    colour: str
    x: np.ndarray
    y: np.ndarray
    error: np.ndarray
    hollow: np.ndarray
    limit: np.ndarray


@dataclass(frozen=True)
class Panel:
    """A row of the figure: what its values are, and how tall it is beside the others."""

    label: str
    marks: Sequence[Marks]
    share: float


@dataclass(frozen=True)
class Page:
    """Size in points, title, the colours of ink and lines, and what x is."""

    width: float
    height: float
    title: str
    ink: str
    quiet: str
    x_label: str


def figure(panels: Sequence[Panel], spans: Sequence[tuple[float, float]], page: Page) -> str:
    """Panels one below the other, the ``spans`` of x side by side in each of them."""
    top = _TOP + (_TITLE if page.title else 0.0)
    room = page.height - top - _BOTTOM - _APART * (len(panels) - 1)
    lengths = np.array([max(last - first, 0.02) for first, last in spans])
    wide = page.width - _LEFT - _RIGHT - _BETWEEN * (len(spans) - 1)
    widths = wide * lengths / lengths.sum()
    lefts = _LEFT + np.concatenate([[0.0], np.cumsum(widths + _BETWEEN)[:-1]])
    share = sum(panel.share for panel in panels)
    out = [
        "<?xml version='1.0' encoding='utf-8'?>",
        f"<svg xmlns='http://www.w3.org/2000/svg' width='{page.width:g}pt' "
        f"height='{page.height:g}pt' viewBox='0 0 {page.width:g} {page.height:g}'>",
        f"<rect width='100%' height='100%' fill='white'/><g {_FONT} font-size='9'>",
    ]
    if page.title:
        out.append(_text(_LEFT, _TOP, page.title, page.ink, "start", 11))
    for number, panel in enumerate(panels):
        height = room * panel.share / share
        out += _panel(panel, spans, lefts, widths, (top, height), page, number == len(panels) - 1)
        if number == 0:
            out += _legend(panel, float(lefts[-1] + widths[-1]), top, page)
        top += height + _APART
    out.append(_text(page.width / 2, page.height - 6.0, page.x_label, page.ink))
    # Attributes are written in single quotes, of which texts have none.
    return "\n".join([*out, "</g></svg>"]).replace("'", '"') + "\n"


def _panel(
    panel: Panel, spans: Sequence[tuple[float, float]], lefts: np.ndarray, widths: np.ndarray,
    place: tuple[float, float], page: Page, last: bool,
) -> list[str]:  # fmt: skip
    top, height = place
    low, high = _range(panel)

    def down(values: np.ndarray) -> np.ndarray:
        return top + height * (values - low) / (high - low)

    out = []
    ticks = _ticks(low, high, max(int(height / 26.0), 2))
    digits = _digits(ticks)
    for at in ticks:
        y = float(down(at))
        out.append(_line(_LEFT - _TICK, y, _LEFT, y, page.quiet))
        out.append(_text(_LEFT - 6.0, y + 3.0, _number(at, digits), page.quiet, "end"))
    x, y = 13.0, top + height / 2
    out.append(
        f"<text x='{x:g}' y='{y:.2f}' fill='{page.ink}' text-anchor='middle' "
        f"transform='rotate(-90 {x:g} {y:.2f})'>{escape(panel.label, _QUOTE)}</text>"
    )
    for (first, end), left, width in zip(spans, lefts.tolist(), widths.tolist(), strict=True):
        span = max(end - first, 0.02)
        begin = first - _MARGIN * span
        scale = width / (span * (1.0 + 2.0 * _MARGIN))
        out.append(_line(left, top, left, top + height, page.quiet))
        out.append(_line(left, top + height, left + width, top + height, page.quiet))
        own = _ticks(begin, begin + width / scale, max(int(width / 48.0), 1))
        small = _digits(own)
        for at in own:
            px = left + (at - begin) * scale
            out.append(_line(px, top + height, px, top + height + _TICK, page.quiet))
            if last:
                words = _number(at, small)
                out.append(_text(px, top + height + 14.0, words, page.quiet))
        for marks in panel.marks:
            inside = (marks.x >= first) & (marks.x <= end)
            out += _marks(marks, inside, left + (marks.x - begin) * scale, down)
    return out


def _marks(marks: Marks, inside: np.ndarray, px: np.ndarray, down: object) -> list[str]:
    """Bars as one path, full marks as another; hollow ones and limits by themselves."""
    place = down  # a function of values
    assert callable(place)
    seen = np.flatnonzero(inside & np.isfinite(marks.y))
    out = []
    bars = seen[np.isfinite(marks.error[seen])]
    if bars.size:
        tops, ends = place(marks.y - marks.error), place(marks.y + marks.error)
        path = "".join(f"M{px[i]:.2f} {tops[i]:.2f}V{ends[i]:.2f}" for i in bars)
        out.append(f"<path d='{path}' stroke='{marks.colour}' stroke-width='0.7' fill='none'/>")
    middles = place(marks.y)
    for hollow in (False, True):
        some = seen[marks.hollow[seen] == hollow]
        if some.size:
            r = _MARK
            path = "".join(f"M{px[i] - r:.2f} {middles[i]:.2f}{_ROUND}" for i in some)
            fill = "white" if hollow else marks.colour
            out.append(
                f"<path d='{path}' fill='{fill}' stroke='{marks.colour}' stroke-width='0.7'/>"
            )
    below = np.flatnonzero(inside & np.isfinite(marks.limit))
    if below.size:
        limits = place(marks.limit)
        path = "".join(
            f"M{px[i] - 2.5:.2f} {limits[i]:.2f}h5m-2.5 0v7m-2 -2.5l2 2.5l2 -2.5" for i in below
        )
        out.append(f"<path d='{path}' stroke='{marks.colour}' stroke-width='0.8' fill='none'/>")
    return out


def _legend(panel: Panel, right: float, top: float, page: Page) -> list[str]:
    """The filters in one line above the panel, from the right."""
    out: list[str] = []
    x = right
    for marks in reversed(panel.marks):
        x -= 6.0 * len(marks.name) + 4.0
        out.append(_text(x, top - 3.0, marks.name, page.ink, "start"))
        x -= 8.0
        out.append(f"<circle cx='{x + 2:.2f}' cy='{top - 6:.2f}' r='2.4' fill='{marks.colour}'/>")
        x -= 8.0
    return out


def _range(panel: Panel) -> tuple[float, float]:
    every = [m.y[np.isfinite(m.y)] for m in panel.marks]
    every += [m.limit[np.isfinite(m.limit)] for m in panel.marks]
    # A bar that is longer than the curve is high does not set the scale.
    every += [
        (m.y + sign * np.minimum(m.error, 0.5))[np.isfinite(m.y + m.error)]
        for m in panel.marks for sign in (-1.0, 1.0)
    ]  # fmt: skip
    values = np.concatenate(every) if every else np.empty(0)
    if not values.size:
        return -0.05, 0.05
    low, high = float(values.min()), float(values.max())
    room = max(_MARGIN * (high - low), 0.005)
    return low - room, high + room


def _ticks(low: float, high: float, count: int) -> np.ndarray:
    """Round values within a range, about so many."""
    rough = (high - low) / max(count, 1)
    size = 10.0 ** np.floor(np.log10(rough))
    step = next(size * one for one in _STEPS if size * one >= rough * (1.0 - 1e-9))
    return np.arange(np.ceil(low / step - 1e-9), np.floor(high / step + 1e-9) + 1.0) * step


def _digits(ticks: np.ndarray) -> int:
    """So many digits that ticks differ as they should."""
    step = float(ticks[1] - ticks[0]) if ticks.size > 1 else 0.01
    return next((n for n in range(7) if abs(step * 10**n - round(step * 10**n)) < 1e-6), 7)


def _number(value: float, digits: int) -> str:
    return f"{value + 0.0:.{digits}f}".replace("-", "−")


def _line(x0: float, y0: float, x1: float, y1: float, colour: str) -> str:
    return f"<path d='M{x0:.2f} {y0:.2f}L{x1:.2f} {y1:.2f}' stroke='{colour}' stroke-width='0.6'/>"


def _text(
    x: float, y: float, words: str, colour: str, anchor: str = "middle", size: int = 9
) -> str:
    return (
        f"<text x='{x:.2f}' y='{y:.2f}' fill='{colour}' text-anchor='{anchor}' "
        f"font-size='{size}'>{escape(words, _QUOTE)}</text>"
    )

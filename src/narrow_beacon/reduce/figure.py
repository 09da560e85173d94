"""The light curve as a figure: SVG, PDF or PNG."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from narrow_beacon.core.curve.light_curve import GOOD
from narrow_beacon.core.report.light_curve import CurvePoint
from narrow_beacon.reduce import svg

_COLOURS = {"U": "#7d6bb0", "B": "#4a7fb5", "V": "#5d9a5a", "R": "#b5584a", "I": "#8a4a4a"}
_INK, _QUIET = "#26231d", "#8d8677"
_GAP_DAYS = 0.25


@dataclass(frozen=True)
class FigureLook:
    """The size of a figure in inches, and a title of one's own."""

    width_in: float = 9.0
    height_in: float = 5.4
    title: str = ""


USUAL_LOOK = FigureLook()


def draw_light_curve(
    points: Sequence[CurvePoint], target: str, check: str, path: Path,
    look: FigureLook = USUAL_LOOK,
) -> None:  # fmt: skip
    """Target above, check star below, magnitudes upside down, nights side by side; SVG, PDF or PNG
    by the file's ending. SVG, which every reduction writes, needs no plotting library.
    """
    good = [p for p in points if np.isfinite(p.magnitude) or np.isfinite(p.limit_magnitude)]
    nights = nights_in([point.jd_utc for point in good])
    if path.suffix == ".svg":
        path.write_text(_svg(good, nights, target, check, look), encoding="utf-8")
        return
    from matplotlib.figure import Figure
    from matplotlib.ticker import MaxNLocator

    # No date: the same curve gives the same file.
    with figure_look():
        spans = [max(last - first, 0.02) for first, last in nights]
        # Without pyplot, whose figures are of the whole process: a server draws in many threads.
        figure = Figure(figsize=(look.width_in, look.height_in))
        axes = figure.subplots(
            2, len(nights), sharey="row", sharex="col", squeeze=False,
            gridspec_kw={
                "height_ratios": [3, 1], "width_ratios": spans, "wspace": 0.04, "hspace": 0.08,
            },
        )  # fmt: skip
        base = int(np.floor(nights[0][0]))
        for column, (first, last) in enumerate(nights):
            inside = [p for p in good if first <= p.jd_utc <= last]
            for row, (value, error) in enumerate(
                (("magnitude", "uncertainty"), ("check_magnitude", "check_uncertainty"))
            ):
                _draw(axes[row, column], inside, value, error, base)
                axes[row, column].tick_params(length=3, width=0.6)
                axes[row, column].xaxis.set_major_locator(MaxNLocator(4))
                for side in ("top", "right"):
                    axes[row, column].spines[side].set_visible(False)
        for row in (0, 1):
            axes[row, 0].invert_yaxis()
        axes[0, 0].set_ylabel(f"{target} (mag)")
        axes[1, 0].set_ylabel(f"{check or 'check'} (mag)")
        axes[0, 0].legend(frameon=False, loc="best", handletextpad=0.2)
        figure.supxlabel(f"JD (UTC) − {base}", fontsize=9, color=_INK)
        if look.title:
            figure.suptitle(look.title, fontsize=11, x=0.125, ha="left", y=0.94)
        _save(figure, path)


def _svg(
    points: Sequence[CurvePoint], nights: Sequence[tuple[float, float]], target: str, check: str,
    look: FigureLook,
) -> str:  # fmt: skip
    base = int(np.floor(nights[0][0]))
    panels = [
        svg.Panel(f"{words} (mag)", _marks(points, value, error, base), share)
        for words, value, error, share in (
            (target, "magnitude", "uncertainty", 3.0),
            (check or "check", "check_magnitude", "check_uncertainty", 1.0),
        )
    ]
    page = svg.Page(
        72.0 * look.width_in, 72.0 * look.height_in, look.title, _INK, _QUIET,
        f"JD (UTC) − {base}",
    )  # fmt: skip
    return svg.figure(panels, [(first - base, last - base) for first, last in nights], page)


def _marks(points: Sequence[CurvePoint], value: str, error: str, base: int) -> list[svg.Marks]:
    """The points of each filter; a limit is the target's."""
    found = []
    for name in sorted({point.filter for point in points}):
        own = [point for point in points if point.filter == name]
        of_target = value == "magnitude"
        found.append(
            svg.Marks(
                name, filter_colour(name), np.array([p.jd_utc - base for p in own]),
                np.array([getattr(p, value) for p in own], float),
                np.array([getattr(p, error) for p in own], float),
                np.array([of_target and p.state != GOOD for p in own], bool),
                np.array([p.limit_magnitude if of_target else np.nan for p in own], float),
            )
        )  # fmt: skip
    return found


def _save(figure: Any, path: Path) -> None:
    kind = path.suffix.lstrip(".")
    date = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}.get(kind)
    figure.savefig(path, format=kind, dpi=200, metadata=date, bbox_inches="tight")


def figure_look() -> AbstractContextManager[None]:
    """How figures look; a fixed salt, so that the same curve gives the same file."""
    import matplotlib

    return matplotlib.rc_context(
        {
            "svg.hashsalt": "narrow beacon", "font.size": 9, "text.color": _INK,
            "axes.edgecolor": _QUIET, "axes.linewidth": 0.6, "xtick.color": _QUIET,
            "ytick.color": _QUIET, "axes.labelcolor": _INK,
        }
    )  # fmt: skip


def filter_colour(name: str) -> str:
    """A filter's colour on paper."""
    return _COLOURS.get(name, _INK)


def nights_in(jd: Sequence[float]) -> list[tuple[float, float]]:
    """First and last time of each night."""
    times = np.sort(np.array(jd))
    cuts = np.flatnonzero(np.diff(times) > _GAP_DAYS) + 1
    return [(float(part[0]), float(part[-1])) for part in np.split(times, cuts)]


def _draw(axis: Any, points: Sequence[CurvePoint], value: str, error: str, base: int) -> None:
    """One panel: a colour for each filter; doubtful points are hollow, limits point downwards."""
    for name in sorted({point.filter for point in points}):
        colour = filter_colour(name)
        below = [p for p in points if p.filter == name and np.isfinite(p.limit_magnitude)]
        if value == "magnitude" and below:
            axis.plot(
                [p.jd_utc - base for p in below], [p.limit_magnitude for p in below],
                linestyle="none", marker="$\\downarrow$", ms=5, color=colour,
            )  # fmt: skip
        for hollow in (False, True):
            chosen = [
                p
                for p in points
                if p.filter == name
                and np.isfinite(getattr(p, value))
                and (value == "magnitude" and p.state != GOOD) is hollow
            ]
            axis.errorbar(
                [p.jd_utc - base for p in chosen],
                [getattr(p, value) for p in chosen],
                yerr=[getattr(p, error) for p in chosen],
                fmt="o", ms=2.8, mew=0.7, lw=0, elinewidth=0.7, color=colour,
                mfc="white" if hollow else colour, label=None if hollow else name,
            )  # fmt: skip


@dataclass(frozen=True)
class PhaseLook:
    """How a folded curve is drawn: the elements in days and BJD(TDB), the size in inches, and a
    title of one's own.
    """

    period_d: float
    epoch_bjd: float
    kind: str = "minimum"
    width_in: float = 7.0
    height_in: float = 4.5
    title: str = ""


def draw_phase(points: Sequence[CurvePoint], target: str, look: PhaseLook, path: Path) -> None:
    """The curve over phase, a quarter of the cycle repeated at either side; SVG, PDF or PNG by the
    file's ending. Magnitudes are on the standard scale where every point of the filter is.
    """
    from matplotlib.figure import Figure

    with figure_look():
        figure = Figure(figsize=(look.width_in, look.height_in))
        axes = figure.subplots()
        for name in dict.fromkeys(p.filter for p in points):
            own = [p for p in points if p.filter == name]
            standard = all(np.isfinite(p.transformed_magnitude) for p in own)
            value = "transformed_magnitude" if standard else "magnitude"
            m = np.array([getattr(p, value) for p in own])
            s = np.array([getattr(p, value.replace("magnitude", "uncertainty")) for p in own])
            phase = np.array([(p.bjd_tdb - look.epoch_bjd) / look.period_d % 1.0 for p in own])
            good = np.array([p.state == GOOD for p in own])
            for shift in (-1.0, 0.0, 1.0):
                for hollow in (False, True):
                    x = phase + shift
                    at = (x >= -0.25) & (x <= 1.25) & np.isfinite(m) & (good != hollow)
                    label = name if shift == 0.0 and not hollow else None
                    axes.errorbar(
                        x[at], m[at], yerr=s[at], fmt="o", ms=2.8, mew=0.7, lw=0, elinewidth=0.7,
                        color=filter_colour(name), mfc="white" if hollow else filter_colour(name),
                        label=label,
                    )  # fmt: skip
        axes.set_xlim(-0.25, 1.25)
        axes.invert_yaxis()
        axes.set_ylabel("magnitude")
        axes.set_xlabel(
            f"phase of {look.period_d:.8g} d, 0 at the {look.kind} of BJD {look.epoch_bjd:.5f}"
        )
        axes.set_title(look.title or target, fontsize=11, loc="left")
        axes.legend(frameon=False, handletextpad=0.2)
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
        _save(figure, path)

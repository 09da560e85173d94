"""The night sheet: one page that tells a colleague what the star did and how it was measured, as
HTML that stands alone and as PDF.
"""

from __future__ import annotations

import html
import tempfile
import textwrap
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from narrow_beacon import __version__
from narrow_beacon.core.curve.time import julian_year
from narrow_beacon.core.report.light_curve import CurvePoint
from narrow_beacon.core.report.render import night_of
from narrow_beacon.core.series.elements import Elements
from narrow_beacon.core.series.extrema import find_extrema
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.curve_points import curve_points
from narrow_beacon.reduce.figure import draw_light_curve, figure_look, filter_colour, nights_in
from narrow_beacon.reduce.finder import Look, Parts, draw_finder
from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.reduce.report_facts import check_name, longitude_of, target_name

FORMATS = ("html", "pdf")
_PAGE_IN = (8.27, 11.69)
_FINDER_ARCMIN = 20.0
_MOST_TURNS, _MOST_REMARKS = 8, 6
_LINE, _BOTTOM = 0.0105, 0.02
"""Of a page's height: from line to line, and what stays free."""
_INK, _QUIET = "#26231d", "#8d8677"


@dataclass(frozen=True)
class Sheet:
    """What stands on it: title, lines under it, tables by heading as (name, words), remarks."""

    title: str
    lines: tuple[str, ...]
    tables: tuple[tuple[str, tuple[tuple[str, str], ...]], ...]
    remarks: tuple[str, ...]


def write_sheet(outcome: Outcome, path: Path, elements: Elements | None = None) -> None:
    """Write the sheet of the outcome's first target to a file, whose ending says the format.
    ``elements`` are the star's, where they are known.
    """
    name = target_name(outcome)
    points = [p for p in curve_points(outcome) if p.target == name]
    sheet = _sheet(outcome, points, elements)
    if path.suffix == ".html":
        path.write_text(_html(outcome, points, sheet), encoding="utf-8")
    else:
        _pdf(outcome, points, sheet, path)


def _sheet(outcome: Outcome, points: Sequence[CurvePoint], elements: Elements | None) -> Sheet:
    names, target = outcome.stars.names, outcome.target
    assert target is not None
    nights = list(dict.fromkeys(night_of(p.jd_utc, longitude_of(outcome)) for p in points))
    ra, dec = outcome.stars.ra_deg[target], outcome.stars.dec_deg[target]
    lines = [f"{ra:.5f}° {dec:+.5f}° (ICRS)".replace("-", "−"), "nights of " + ", ".join(nights)]
    if outcome.plan.site:
        site = outcome.plan.site
        lines.append(
            f"observed at {site.latitude_deg:.3f}° {site.longitude_deg:+.3f}°, "
            f"{site.elevation_m:.0f} m".replace("-", "−")
        )
    return Sheet(
        target_name(outcome), tuple(lines),
        (
            ("What the star did", tuple(_did(outcome, elements))),
            ("Held against", tuple(_stars(outcome, names))),
            ("The night", tuple(_night(outcome))),
            ("How it was measured", tuple(_how(outcome))),
        ),
        tuple(str(remark) for remark in outcome.remarks)[:_MOST_REMARKS],
    )  # fmt: skip


def _did(outcome: Outcome, elements: Elements | None) -> list[tuple[str, str]]:
    rows = []
    turns = []
    for curve in outcome.curves:
        standard = curve.standard
        value = standard.magnitude if standard else curve.target.magnitude
        sigma = standard.uncertainty if standard else curve.target.uncertainty
        good = np.isfinite(value) & ~curve.target.doubtful
        if not good.any():
            continue
        rows.append(
            (f"in {curve.filter}", f"{value[good].min():.3f} to {value[good].max():.3f} mag, "
             f"{counted(int(good.sum()), 'point')}, typically ± {np.median(sigma[good]):.4f}"
             f"{', standard scale' if standard else ''}")
        )  # fmt: skip
        t = outcome.times.bjd_tdb[list(curve.indices)]
        value = np.where(good, value, np.nan)
        turns += find_extrema(t, value, sigma, filter_name=curve.filter)
    for turn in turns[:_MOST_TURNS]:
        words = f"BJD(TDB) {turn.best.time_d:.5f} ± {turn.best.uncertainty_d:.5f}"
        if elements is not None:
            cycle = float(np.round(2 * elements.cycle(np.array([turn.best.time_d]))[0]) / 2) + 0.0
            off = turn.best.time_d - float(elements.time(np.array([cycle]))[0])
            words += f", cycle {cycle:g}, O − C {off:+.5f} d".replace("-", "−")
        rows.append((f"{turn.kind} in {turn.filter}", words))
    if elements is not None:
        rows.append(
            ("elements", f"{elements.kind} = {elements.epoch_bjd:.5f} + {elements.period_d:.8g} · E"
             f"{f'; {elements.source}' if elements.source else ''}")
        )  # fmt: skip
    return rows


def _stars(outcome: Outcome, names: Sequence[str]) -> list[tuple[str, str]]:
    rows = []
    for curve in outcome.curves:
        known = outcome.stars.bands[curve.band].magnitude
        stars = ", ".join(f"{names[row]} ({known[row]:.3f})" for row in curve.cast.comparison)
        rows.append((f"comparison in {curve.filter}", stars))
        if curve.check is not None and curve.cast.check is not None:
            verdict = curve.check.steadiness
            off = float(np.nanmedian(curve.check.magnitude)) - float(known[curve.cast.check])
            rows.append(
                (f"check in {curve.filter}", f"{names[curve.cast.check]}, scatters by "
                 f"{1e3 * verdict.scatter_mag:.1f} mmag, {1e3 * verdict.expected_mag:.1f} expected,"
                 f" {1e3 * off:+.0f} mmag off the catalogue".replace("-", "−"))
            )  # fmt: skip
    return rows


def _night(outcome: Outcome) -> list[tuple[str, str]]:
    rows = []
    for curve in outcome.curves:
        quality = [
            r.quality for r in (outcome.results[i] for i in curve.indices) if r.quality is not None
        ]
        airmass = outcome.times.airmass[list(curve.indices)]
        width = np.array([q.fwhm_px for q in quality])
        sky = np.array([q.sky_adu_per_px for q in quality])
        words = f"stars {np.median(width):.1f} px wide ({width.min():.1f} to {width.max():.1f})"
        words += f", sky {np.median(sky):.0f} ADU"
        if np.isfinite(airmass).any():
            words += f", airmass {np.nanmin(airmass):.2f} to {np.nanmax(airmass):.2f}"
        clear = float(np.nanmin(curve.transparency)) if curve.transparency.size else 1.0
        words += f", at the least {100 * clear:.0f}% of the clear night’s light"
        rows.append((f"in {curve.filter}", words))
    aside = len(outcome.set_aside)
    rows.append(("set aside", counted(aside, "exposure") if aside else "none"))
    return rows


def _how(outcome: Outcome) -> list[tuple[str, str]]:
    kinds = Counter(m.facts.kind for m in outcome.masters)
    masters = ", ".join(f"{kind} {many}" for kind, many in kinds.items())
    rows = [("masters", f"{masters}; named in provenance.json" if masters else "none")]
    for curve in outcome.curves:
        radius = float(np.median(curve.census.radii_px[:, curve.choice.step]))
        words = f"aperture of {radius:.2f} px"
        if curve.terms is not None and curve.terms.transform is not None:
            t = curve.terms.transform
            words += f", T = {t.value:+.4f} ± {t.uncertainty:.4f} on {curve.terms.index.words}"
        words += f", common offset ± {curve.ensemble.common_offset_uncertainty_mag:.4f} mag"
        rows.append((f"in {curve.filter}", words.replace("-", "−")))
    rows.append(("program", f"Narrow Beacon {__version__}"))
    return rows


def _html(outcome: Outcome, points: Sequence[CurvePoint], sheet: Sheet) -> str:
    with tempfile.TemporaryDirectory() as folder:
        curve, finder = Path(folder) / "curve.svg", Path(folder) / "finder.svg"
        draw_light_curve(points, sheet.title, check_name(outcome), curve)
        _finder(outcome, points, finder)
        figures = [_inline(curve), _inline(finder)]
    tables = [
        f"<section><h2>{_text(head)}</h2><dl>"
        + "".join(f"<dt>{_text(n)}</dt><dd>{_text(w)}</dd>" for n, w in rows)
        + "</dl></section>"
        for head, rows in sheet.tables
    ]
    lines = "<br>".join(_text(line) for line in sheet.lines)
    remarks = "".join(f"<li>{_text(words)}</li>" for words in sheet.remarks)
    return f"""<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{_text(sheet.title)}: night sheet</title>
<style>{_STYLE}</style></head><body>
<header><h1>{_text(sheet.title)}</h1><p>{lines}</p></header>
<figure>{figures[0]}</figure>
<div class="both"><figure>{figures[1]}</figure><div>{tables[0]}{tables[1]}</div></div>
<div class="two">{tables[2]}{tables[3]}</div>
{f"<section><h2>Remarks</h2><ul>{remarks}</ul></section>" if remarks else ""}
</body></html>
"""


_STYLE = """
@page { size: A4; margin: 14mm }
body { font: 10pt/1.4 sans-serif; color: #26231d; background: #fff; max-width: 182mm; margin: 8mm auto }
h1 { font-size: 20pt; margin: 0 } h2 { font-size: 10.5pt; margin: 0 0 1mm; border-bottom: .3pt solid #8d8677 }
header { display: flex; justify-content: space-between; align-items: end; border-bottom: .8pt solid #26231d }
header p { margin: 0; text-align: right; font-size: 8.5pt; color: #6d6657 }
figure { margin: 3mm 0 } figure svg { width: 100%; height: auto }
.both { display: grid; grid-template-columns: 66mm 1fr; gap: 6mm } .two { display: grid; gap: 6mm; grid-template-columns: 1fr 1fr }
dl { display: grid; grid-template-columns: 27mm 1fr; gap: .4mm 2mm; margin: 0 0 3mm; font-size: 8.5pt }
dt { color: #6d6657 } dd { margin: 0 } ul { margin: 0; padding-left: 4mm; font-size: 8.5pt }
"""  # noqa: E501


def _inline(path: Path) -> str:
    """A figure's drawing without what only a file of its own needs."""
    text = path.read_text(encoding="utf-8")
    # Both figures count their parts from 1: each gets names of its own.
    own = path.stem
    text = text[text.index("<svg") :]
    for mark in ('id="', 'href="#', "url(#"):
        text = text.replace(mark, f"{mark}{own}-")
    return text


def _text(words: str) -> str:
    return html.escape(words)


def _finder(outcome: Outcome, points: Sequence[CurvePoint], path: Path) -> None:
    curve = outcome.curves[0]
    cast = curve.cast
    parts = Parts(cast.target, cast.comparison, cast.checks)
    moment = outcome.night.exposures[curve.indices[0]].mid_utc
    assert moment is not None
    year = julian_year(moment)
    draw_finder(outcome.stars, curve.band, parts, year, path, Look(_FINDER_ARCMIN))


def _pdf(outcome: Outcome, points: Sequence[CurvePoint], sheet: Sheet, path: Path) -> None:
    from matplotlib.figure import Figure
    from matplotlib.image import imread

    with figure_look():
        page = Figure(figsize=_PAGE_IN)
        page.text(0.07, 0.955, sheet.title, fontsize=20, fontweight="bold")
        page.text(0.93, 0.945, "\n".join(sheet.lines), fontsize=8, ha="right", color=_QUIET)
        _draw_nights(page, points, check_name(outcome))
        with tempfile.TemporaryDirectory() as folder:
            chart = Path(folder) / "finder.png"
            _finder(outcome, points, chart)
            axes = page.add_axes((0.06, 0.26, 0.36, 0.29))
            axes.imshow(imread(chart))
            axes.set_axis_off()
        _write(page, 0.46, 0.555, sheet.tables[:2], 62)
        below = min(
            _write(page, 0.07, 0.245, sheet.tables[2:3], 54),
            _write(page, 0.52, 0.245, sheet.tables[3:], 50),
        )
        lines = [line for words in sheet.remarks for line in _wrapped(f"• {words}", 122)]
        room = max(int((below - _BOTTOM) / _LINE), 0)
        if len(lines) > room:
            lines = [*lines[: max(room - 1, 0)], "… more in the page and in provenance.json"]
        page.text(0.07, below, "\n".join(lines), fontsize=6.5, va="top", color=_QUIET)
        page.savefig(path, format="pdf", metadata={"CreationDate": None})


def _draw_nights(page: Any, points: Sequence[CurvePoint], check: str) -> None:
    """Target and check star, nights side by side, in the upper part of a page."""
    good = [p for p in points if np.isfinite(p.magnitude)]
    if not good:
        return
    nights = nights_in([p.jd_utc for p in good])
    spans = [max(last - first, 0.02) for first, last in nights]
    axes = page.subplots(
        2, len(nights), sharey="row", sharex="col", squeeze=False,
        gridspec_kw={
            "height_ratios": [3, 1], "width_ratios": spans, "wspace": 0.04, "hspace": 0.08,
            "left": 0.1, "right": 0.95, "top": 0.925, "bottom": 0.61,
        },
    )  # fmt: skip
    base = int(np.floor(nights[0][0]))
    for column, (first, last) in enumerate(nights):
        inside = [p for p in good if first <= p.jd_utc <= last]
        for row, (value, error) in enumerate(
            (("magnitude", "uncertainty"), ("check_magnitude", "check_uncertainty"))
        ):
            own = axes[row, column]
            for name in dict.fromkeys(p.filter for p in inside):
                some = [p for p in inside if p.filter == name and np.isfinite(getattr(p, value))]
                own.errorbar(
                    [p.jd_utc - base for p in some], [getattr(p, value) for p in some],
                    yerr=[getattr(p, error) for p in some], fmt="o", ms=2.2, lw=0, elinewidth=0.6,
                    color=filter_colour(name), label=name,
                )  # fmt: skip
            own.tick_params(length=3, width=0.6, labelsize=7)
            for side in ("top", "right"):
                own.spines[side].set_visible(False)
    for row in (0, 1):
        axes[row, 0].invert_yaxis()
    axes[0, 0].set_ylabel("mag", fontsize=8)
    axes[1, 0].set_ylabel(f"{check or 'check'}", fontsize=8)
    axes[0, 0].legend(frameon=False, fontsize=8, handletextpad=0.2)
    page.text(0.52, 0.578, f"JD (UTC) − {base}", ha="center", fontsize=8)


def _write(
    page: Any, x: float, top: float, tables: Sequence[tuple[str, Sequence[tuple[str, str]]]],
    letters: int,
) -> float:  # fmt: skip
    """Tables of names and words from a place on the page downwards, to where it returns."""
    y = top
    for head, rows in tables:
        page.text(x, y, head, fontsize=9, fontweight="bold", va="top")
        y -= 0.017
        for name, words in rows:
            lines = _wrapped(words, letters)
            page.text(x, y, name, fontsize=7, va="top", color=_QUIET)
            page.text(x + 0.105, y, "\n".join(lines), fontsize=7, va="top", color=_INK)
            y -= _LINE * len(lines) + 0.0035
        y -= 0.01
    return y


def _wrapped(words: str, letters: int) -> list[str]:
    return textwrap.wrap(words, letters) or [""]

"""Commands on light curves and on what a reduction wrote: periods, times of minimum and maximum,
the field's variable stars, reports in other layouts.
"""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Callable
from pathlib import Path

import click

from narrow_beacon.cli_numbers import Number

_SIDE_CM = Number(4, 60)
_CURVE = click.argument("curve", type=click.Path(path_type=Path))
_FOLDER = click.argument("folder", type=click.Path(path_type=Path, exists=True, file_okay=False))
_JSON = click.option(
    "--json", "as_json", is_flag=True, help="One JSON document on standard output."
)


def _columns(command: Callable[..., None]) -> Callable[..., None]:
    """The options that say which columns of a curve are what."""
    for name in ("uncertainty", "magnitude", "time"):
        command = click.option(
            f"--{name}", f"{name}_column", help="Name of the column, where another would be taken."
        )(command)
    return click.option("--filter", "filter_name", help="Of which points.")(command)


@click.command()
@_CURVE
@_columns
@click.option("--shortest", type=Number(1e-6), help="Period in days.")
@click.option("--longest", type=Number(1e-6), help="Period in days.")
@click.option("--kind", type=click.Choice(["waves", "eclipses", "any"]), default="any")
@_JSON
def period(
    curve: Path, filter_name: str | None, shortest: float | None, longest: float | None, kind: str,
    time_column: str | None, magnitude_column: str | None, uncertainty_column: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Find the periods that a light CURVE may have: CSV, ECSV, VOTable or FITS, ours or another's.

    Exit status 0 when one was found, 2 for an unusable curve.
    """
    from narrow_beacon.core.series.curve_file import CurveFileError, read_curve
    from narrow_beacon.core.series.periods import TooFewPointsError, find_periods

    said = {"time": time_column, "magnitude": magnitude_column, "uncertainty": uncertainty_column}
    try:
        table = read_curve(curve, {k: v for k, v in said.items() if v}).of_filter(filter_name)
        found = find_periods(table.t_d, table.magnitude, table.uncertainty, kind, shortest, longest)
    except (CurveFileError, TooFewPointsError) as error:
        click.echo(f"{error}", err=True)
        sys.exit(2)
    if as_json:
        peaks = [
            {"period_d": p.period_d, "uncertainty_d": p.uncertainty_d, "power": p.power,
             "false_alarm": p.false_alarm, "note": p.note}
            for p in found.peaks
        ]  # fmt: skip
        click.echo(json.dumps({"points": found.points, "span_d": found.span_d, "peaks": peaks}))
        return
    shape = {"waves": "a wave", "eclipses": "a curve of six harmonics"}[found.kind]
    click.echo(f"{found.points} points over {found.span_d:.4g} d, as {shape}:")
    for p in found.peaks:
        chance = "below 10⁻⁶" if p.false_alarm < 1e-6 else f"{p.false_alarm:.2g}"
        click.echo(
            f"  {p.period_d:.8g} ± {p.uncertainty_d:.1g} d  takes away {p.power:.0%}, "
            f"chance of noise {chance}{f'; {p.note}' if p.note else ''}"
        )


@click.command()
@_CURVE
@_columns
@click.option("--kind", type=click.Choice(["minimum", "maximum"]), default="minimum")
@_JSON
def extrema(
    curve: Path, filter_name: str | None, kind: str, time_column: str | None,
    magnitude_column: str | None, uncertainty_column: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Times of minimum or maximum light on a light CURVE, each filter by itself.

    Exit status 0 when the curve could be read, 2 for an unusable one.
    """
    from narrow_beacon.core.series.curve_file import CurveFileError, read_curve
    from narrow_beacon.core.series.extrema import find_extrema

    said = {"time": time_column, "magnitude": magnitude_column, "uncertainty": uncertainty_column}
    try:
        table = read_curve(curve, {k: v for k, v in said.items() if v})
        names = [filter_name] if filter_name else list(dict.fromkeys(table.filter))
        found = []
        for name in names:
            own = table.of_filter(name)
            found += find_extrema(own.t_d, own.magnitude, own.uncertainty, kind, name)
    except CurveFileError as error:
        click.echo(f"{error}", err=True)
        sys.exit(2)
    if as_json:
        rows = [
            {"kind": e.kind, "bjd_tdb": e.best.time_d, "uncertainty_d": e.best.uncertainty_d,
             "method": e.best.method, "points": e.points, "filter": e.filter,
             "symmetric": e.symmetric, "complete": e.complete,
             "others": [{"method": t.method, "bjd_tdb": t.time_d, "uncertainty_d": t.uncertainty_d}
                        for t in e.others]}
            for e in found
        ]  # fmt: skip
        click.echo(json.dumps(rows, ensure_ascii=False))
        return
    if not found:
        click.echo(f"no {kind} stands out of the noise")
    for e in found:
        click.echo(
            f"{e.kind} {f'in {e.filter} ' if e.filter else ''}at {e.best.time_d:.5f} ± "
            f"{e.best.uncertainty_d:.5f} ({e.best.method}, {e.points} points)"
            f"{'' if e.complete else '; partly observed'}{'' if e.symmetric else '; asymmetric'}"
        )
        for t in e.others:
            click.echo(f"    {t.method}: {t.time_d:.5f} ± {t.uncertainty_d:.5f}")


@click.command()
@_FOLDER
@click.option(
    "--least", default=5.0, type=Number(), help="Significance from which on a star is listed."
)
@_JSON
def survey(folder: Path, least: float, as_json: bool) -> None:
    """The stars of a field that vary, from the output FOLDER of a reduction.

    Exit status 0 when it could be read, 2 for a folder that is none.
    """
    from narrow_beacon.core.series.survey import survey as find_variables
    from narrow_beacon.reduce.survey import SurveyError, field_lights

    try:
        found = find_variables(field_lights(folder), least)
    except SurveyError as error:
        click.echo(f"{error}", err=True)
        sys.exit(2)
    if as_json:
        rows = [
            {"star": s.star, "filter": s.filter, "magnitude": round(s.magnitude, 4),
             "scatter_mag": round(s.scatter_mag, 5), "expected_mag": round(s.expected_mag, 5),
             "significance": round(s.significance, 2),
             "period_d": s.period_d if math.isfinite(s.period_d) else None}
            for s in found
        ]  # fmt: skip
        click.echo(json.dumps(rows, ensure_ascii=False))
        return
    if not found:
        click.echo("no star stands out")
    for s in found:
        period = f", period {s.period_d:.6g} d" if math.isfinite(s.period_d) else ""
        click.echo(
            f"{s.star} in {s.filter}: {s.magnitude:.3f} mag, scatters by {1e3 * s.scatter_mag:.1f} "
            f"mmag where {1e3 * s.expected_mag:.1f} are usual, {s.significance:.1f} σ{period}"
        )


@click.command()
@_FOLDER
@click.option("--period", type=Number(1e-6), help="In days; without it, over time.")
@click.option("--epoch", type=Number(), help="Of phase 0, BJD (TDB); else that of the first point.")
@click.option(
    "--size",
    type=(_SIDE_CM, _SIDE_CM),
    default=(18.0, 11.0),
    help="Width and height, cm.",
)
@click.option("--title", default="", help="In place of the star's name.")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, dir_okay=False),
    help="A file that ends in .svg, .pdf or .png.",
)  # fmt: skip
def figure(
    folder: Path, period: float | None, epoch: float | None, size: tuple[float, float], title: str,
    out: Path,
) -> None:  # fmt: skip
    """The light curve of a reduction's output FOLDER over time or phase, as a figure for print.

    Exit status 0 when it was drawn, 2 for an unusable folder or format.
    """
    from narrow_beacon.reduce.again import NoReductionError, read_points
    from narrow_beacon.reduce.figure import FigureLook, PhaseLook, draw_light_curve, draw_phase

    if out.suffix not in (".svg", ".pdf", ".png"):
        click.echo(f"{out}: a figure is SVG, PDF or PNG, by its ending", err=True)
        sys.exit(2)
    try:
        points = read_points(folder)
    except NoReductionError as error:
        click.echo(f"{error}", err=True)
        sys.exit(2)
    first = points[0].target if points else ""
    own = [point for point in points if point.target == first]
    width, height = (length / 2.54 for length in size)
    if period is None:
        draw_light_curve(own, first, "", out, FigureLook(width, height, title))
        return
    begin = min(point.bjd_tdb for point in own) if epoch is None else epoch
    draw_phase(own, first, PhaseLook(period, begin, "epoch", width, height, title), out)


@click.command()
@_FOLDER
@click.option("--layout", required=True, help="One of ours by name, or a file.")
@click.option("--out", type=click.Path(path_type=Path, dir_okay=False), help="Where it goes.")
@click.option("--field", "said", multiple=True, metavar="NAME=WORDS", help="Of the layout's own.")
@click.option("--doubtful", is_flag=True, help="With doubtful points.")
def report(
    folder: Path, layout: str, out: Path | None, said: tuple[str, ...], doubtful: bool
) -> None:
    """The report of a reduction's output FOLDER again, in another layout.

    Exit status 0 when it was written, 2 for an unusable folder or layout.
    """
    from narrow_beacon.core.report.layout import LayoutError, read_layout
    from narrow_beacon.reduce.again import NoReductionError, report_again

    fields = dict(one.partition("=")[::2] for one in said)
    try:
        chosen = read_layout(layout, Path())
        text = report_again(folder, chosen, fields, doubtful=doubtful)
    except (LayoutError, NoReductionError) as error:
        click.echo(f"{error}", err=True)
        sys.exit(2)
    for name in chosen.missing_fields(fields):
        click.echo(f"the layout's field {name} is empty: --field {name}=…", err=True)
    if out is None:
        click.echo(text, nl=False)
    else:
        out.write_bytes(text.encode(chosen.encoding, "replace"))

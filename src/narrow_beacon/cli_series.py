"""Commands on light curves: periods."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import click

_CURVE = click.argument("curve", type=click.Path(path_type=Path))


@click.command()
@_CURVE
@click.option("--filter", "filter_name", help="Of which points, where there are several.")
@click.option("--shortest", type=click.FloatRange(1e-6), help="Period in days.")
@click.option("--longest", type=click.FloatRange(1e-6), help="Period in days.")
@click.option("--kind", type=click.Choice(["waves", "eclipses", "any"]), default="any")
@click.option("--time", "time_column", help="Name of the column, where another would be taken.")
@click.option("--magnitude", "magnitude_column", help="Likewise.")
@click.option("--uncertainty", "uncertainty_column", help="Likewise.")
@click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output.")
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

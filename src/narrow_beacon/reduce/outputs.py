"""Write what a reduction found: the files and columns of the contract."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import fields, replace
from pathlib import Path

import numpy as np

from narrow_beacon import __version__
from narrow_beacon.core.catalogue.atlas import Atlas
from narrow_beacon.core.catalogue.sources import Sources
from narrow_beacon.core.curve.colour_terms import Coefficient
from narrow_beacon.core.frames.colour import CHANNELS
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.frames.frame import Frame, LeftOut
from narrow_beacon.core.frames.header_values import Reading
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.report.census import MeasuredExposure, write_census
from narrow_beacon.core.report.exposures import ExposureRow, write_exposures
from narrow_beacon.core.report.extinction import AirRow, write_extinction
from narrow_beacon.core.report.layout import Layout, parse_layout, read_layout, reported
from narrow_beacon.core.report.light_curve import write_fits, write_texts, write_votable
from narrow_beacon.core.report.provenance import versions, write_provenance
from narrow_beacon.core.report.render import render_report
from narrow_beacon.core.report.sequence import write_sequence
from narrow_beacon.core.report.stars import write_stars
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.again import facts_json
from narrow_beacon.reduce.curve_points import curve_points
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.field_picture import draw_field, field_picture
from narrow_beacon.reduce.figure import draw_light_curve
from narrow_beacon.reduce.names import chain_name, group_name
from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.reduce.report_facts import (
    chart_name,
    check_name,
    report_facts,
    target_name,
)
from narrow_beacon.reduce.workers import Pool

_OUTPUTS = (
    "light_curve.csv", "light_curve.ecsv", "light_curve.vot", "light_curve.fits",
    "light_curve.svg", "exposures.csv", "census.parquet", "report.txt", "provenance.json",
    "stars.csv", "sequence.csv", "extinction.csv", "colour_magnitude.svg",
    "night_sheet.html", "night_sheet.pdf",
)  # fmt: skip


def write_outputs(
    outcome: Outcome, pool: Pool, looked_at: Callable[[], None] = lambda: None
) -> None:
    """Write every file that the outcome allows; files of an earlier run don't stay beside them.
    Calls ``looked_at`` whenever it has read of all censuses.
    """
    folder = outcome.plan.output
    folder.mkdir(parents=True, exist_ok=True)
    for name in _OUTPUTS:
        (folder / name).unlink(missing_ok=True)
    for old in folder.glob(figure_name("*")):
        old.unlink()
    with ThreadPoolExecutor(1) as beside:  # packing the census leaves the rest its time
        measured = _measured(outcome)
        path = folder / "census.parquet"
        census = None
        if measured:
            census = beside.submit(write_census, measured, outcome.stars, path, looked_at)
        _write_others(outcome, pool, folder)
        if census is not None:
            census.result()


def _measured(outcome: Outcome) -> list[MeasuredExposure]:
    """Every exposure that is on a curve, once."""
    measured: dict[int, MeasuredExposure] = {}
    for curve in outcome.every_curve:
        for at, index in enumerate(curve.indices):
            census = outcome.results[index].census
            if index in measured or census is None:
                continue
            frame = outcome.night.exposures[index]
            measured[index] = MeasuredExposure(
                frame.file, curve.filter, float(outcome.times.jd_utc[index]),
                float(curve.census.radii_px[at, curve.choice.step]), census,
                frame.source.first, frame.source.step,
            )  # fmt: skip
    return list(measured.values())


def _write_others(outcome: Outcome, pool: Pool, folder: Path) -> None:
    points = curve_points(outcome)
    beside = []
    for one in outcome.targets:
        name = target_name(one)
        own = [point for point in points if point.target == name]
        if any(np.isfinite(point.magnitude) for point in own):
            path = folder / figure_name("" if one is outcome else name)
            beside.append(pool.start(draw_light_curve, own, name, check_name(one), path))
    if outcome.every_curve:
        # Files whose libraries take long; a worker elsewhere hands each back by its own name.
        beside.append(pool.start(write_votable, points, folder / "light_curve.vot"))
        beside.append(pool.start(write_fits, points, folder / "light_curve.fits"))
        write_texts(points, folder)
    write_exposures(exposure_rows(outcome), folder / "exposures.csv")
    write_provenance(provenance(outcome), folder / "provenance.json")
    if not outcome.every_curve:
        return
    layout = layout_of(outcome.plan)
    going = reported(points, outcome.plan.doubtful, layout)
    text = render_report(layout, going, report_facts(outcome))
    (folder / "report.txt").write_bytes(text.encode(layout.encoding, "replace"))
    lead = next(one for one in outcome.targets if one.curves)
    everyone = [(c.filter, c.band, c.field) for c in lead.curves if c.field is not None]
    write_stars(everyone, outcome.stars, folder / "stars.csv")
    write_sequence(
        outcome.stars, serving_rows(outcome), chart_name(outcome.plan), folder / "sequence.csv"
    )
    picture = field_picture(lead.curves, outcome.stars)
    if picture is not None and lead.target is not None:
        path = folder / "colour_magnitude.svg"
        beside.append(pool.start(draw_field, picture, lead.target, path))
    air = air_rows(outcome)
    if air:
        write_extinction(air, folder / "extinction.csv")
    for finish in beside:
        finish()


def layout_of(plan: Plan) -> Layout:
    """The report's layout. Raises LayoutError."""
    if plan.layout_text:
        return parse_layout(plan.layout_text, plan.layout)
    return read_layout(plan.layout, plan.base)


def serving_rows(outcome: Outcome) -> list[int]:
    """Every comparison and check star of any target, in order of brightness."""
    casts = [curve.cast for curve in outcome.every_curve]
    rows = {row for cast in casts for row in (*cast.comparison, *cast.checks)}
    return [int(row) for row in outcome.stars.brightness_order() if int(row) in rows]


def figure_name(target: str) -> str:
    """The file of a target's figure; the first one's has no name in it."""
    plain = re.sub(r"[^\w*]+", "-", target).strip("-")
    return f"light_curve-{plain}.svg" if plain else "light_curve.svg"


def air_rows(outcome: Outcome) -> list[AirRow]:
    """The zero points of all filters against airmass, night by night."""
    rows = []
    for curve in outcome.curves:
        air = curve.terms.air if curve.terms else None
        if air is None:
            continue
        frames = [outcome.night.exposures[index] for index in curve.indices]
        groups = [group_name(frame) for frame in frames]
        line = air.fitted(groups)
        for at, (index, frame) in enumerate(zip(curve.indices, frames, strict=True)):
            own = air.nights.get(groups[at])
            rows.append(
                AirRow(
                    curve.filter, frame.night or "", frame.file, float(outcome.times.jd_utc[index]),
                    float(air.airmass[at]), float(air.zero[at]), float(line[at]),
                    bool(air.used[at]), own.value if own else float("nan"),
                    own.uncertainty if own else float("nan"),
                )
            )  # fmt: skip
    return rows


def exposure_rows(outcome: Outcome) -> list[ExposureRow]:
    """A row for every file given, in order of name."""
    measured = {index for curve in outcome.every_curve for index in curve.indices}
    of_file: dict[str, list[tuple[Frame, ExposureRow]]] = defaultdict(list)
    for index, frame in enumerate(outcome.night.exposures):
        row = _exposure_row(outcome, index, frame, index in measured)
        of_file[frame.file].append((frame, row))
    rows = [_one_row(some) for some in of_file.values()]
    used = _used_masters(outcome)
    needed_by: dict[str, str] = {}
    labels = {master.facts.key: master.facts.label for master in outcome.masters}
    for master in outcome.masters:
        for _, sha256 in master.facts.inputs:
            needed_by[sha256] = master.facts.key
    for frame in outcome.night.calibration:
        key = needed_by.get(frame.sha256, "")
        label = labels.get(key, "a master that could not be built")
        state, reason = "calibration", f"in {label}"
        if key not in used:
            reason = f"no exposure needs it: {label}"
        rows.append(_plain_row(frame, state, reason))
    for item in outcome.night.left_out:
        rows.append(
            ExposureRow(item.name, item.kind, item.filter, None, None, "left out", item.reason)
        )
    return sorted(rows, key=lambda row: row.file)


def _used_masters(outcome: Outcome) -> set[str]:
    by_key = {master.facts.key: master.facts for master in outcome.masters}
    used = {key for chain in outcome.chains.values() for key in chain.masters}
    for key in list(used):
        used |= set(by_key[key].made_with) if key in by_key else set()
    return used


def _plain_row(frame: Frame, state: str, reason: str) -> ExposureRow:
    return ExposureRow(
        frame.name, frame.kind, frame.filter or "", _jd(frame), frame.exposure_s, state, reason
    )


def _jd(frame: Frame) -> float | None:
    if frame.mid_utc is None:
        return None
    from astropy.time import Time

    return float(Time(frame.mid_utc, format="datetime", scale="utc").jd)


def _centre_of_light(frame: Frame, on: Solution) -> tuple[float, float]:
    """Position in degrees of the middle of what sees light."""
    (x, y), (height, width) = frame.source.first, frame.sensor_shape
    light = frame.source.light
    x, y = (light.x, light.y) if light else (x - x % frame.source.step, y - y % frame.source.step)
    ra, dec = on.sky(np.array([x + (width - 1) / 2]), np.array([y + (height - 1) / 2]))
    return float(ra[0]), float(dec[0])


def _one_row(rows: Sequence[tuple[Frame, ExposureRow]]) -> ExposureRow:
    """One row for a file of which several exposures were made: its colours."""
    if len(rows) == 1:
        return rows[0][1]
    best = next((row for frame, row in rows if frame.second is not None), rows[0][1])
    rows = sorted(rows, key=lambda pair: list(CHANNELS).index(pair[0].channel))
    reasons: dict[str, list[str]] = defaultdict(list)
    for frame, row in rows:
        if row.reason:
            reasons[row.reason].append(frame.channel)
    alike = len(reasons) == 1 and all(row.reason for _, row in rows)
    said = [words if alike else f"{', '.join(names)}: {words}" for words, names in reasons.items()]
    measured = any(row.state == "measured" for _, row in rows)
    return replace(
        best, filter=", ".join(frame.channel for frame, _ in rows),
        state="measured" if measured else "set aside", reason="; ".join(said),
    )  # fmt: skip


def on_file(frame: Frame, solution: Solution) -> Solution:
    """A solution for the pixels of the raw file, of which the image may be a part."""
    source = frame.source
    return solution.among(source.first, source.step, source.stored_shape)


def _exposure_row(outcome: Outcome, index: int, frame: Frame, measured: bool) -> ExposureRow:
    result = outcome.results.get(index)
    reason = "" if measured else outcome.set_aside.get(index, "no curve could be made")
    quality = result.quality if result else None
    placement = result.placement if result else None
    solution = on_file(frame, placement.solution) if placement else None
    centre = _centre_of_light(frame, solution) if solution else (None, None)
    return ExposureRow(
        file=frame.file,
        kind=frame.kind,
        filter=frame.filter or "",
        jd_utc=float(outcome.times.jd_utc[index]),
        exposure_s=frame.exposure_s,
        state="measured" if measured else "set aside",
        reason=reason,
        ra_deg=centre[0],
        dec_deg=centre[1],
        scale_arcsec_per_px=solution.scale_arcsec_per_px if solution else None,
        rotation_deg=solution.rotation_deg if solution else None,
        mirrored=solution.mirrored if solution else None,
        matched_stars=placement.matched if placement else None,
        residual_arcsec=placement.residual_arcsec if placement else None,
        fwhm_px=frame.source.step * quality.fwhm_px if quality else None,
        elongation=quality.elongation if quality else None,
        stars=quality.stars if quality else None,
        sky_adu_per_px=quality.sky_adu_per_px if quality else None,
    )


def _roles(outcome: Outcome, curve: FilterCurve) -> dict[str, object]:
    names = outcome.stars.names
    weight = curve.ensemble.weight
    return {
        "comparison": [
            {"name": names[row], "weight": round(float(weight[i]), 6)}
            for i, row in enumerate(curve.cast.comparison)
        ],
        "check": names[curve.cast.check] if curve.cast.check is not None else None,
        "more_checks": [names[row] for row in curve.cast.checks[1:]],
    }


def provenance(outcome: Outcome) -> Mapping[str, object]:
    """The document that says where every number came from."""
    plan, night = outcome.plan, outcome.night
    roles = {curve.filter: _roles(outcome, curve) for curve in outcome.curves}
    given: list[Frame | LeftOut] = [*night.exposures, *night.calibration, *night.left_out]
    of_file = {item.file: item.sha256 for item in given if item.sha256}
    files = [{"file": name, "sha256": of_file[name]} for name in sorted(of_file)]
    labels = {master.facts.key: master.facts.label for master in outcome.masters}
    catalogue: dict[str, object] = {"stars": len(outcome.stars), "epoch": outcome.stars.epoch_yr}
    if plan.sources.stars:
        catalogue |= _sources(plan.sources)
    elif plan.catalogue_file:
        catalogue |= {"file": plan.catalogue_file.name, "sha256": file_sha256(plan.catalogue_file)}
    catalogue["columns"] = dict(plan.columns)
    catalogue["variables"] = [source.words for source in plan.sources.variables]
    return {
        "target": target_name(outcome),
        **_joint_roles(roles),
        "filters": {curve.filter: _filter_facts(outcome, curve) for curve in outcome.curves},
        "sequence": _sequence(plan),
        "other_targets": [_other(one) for one in outcome.beside],
        "remarks": [str(remark) for remark in outcome.remarks],
        "remarks_in_full": [vars(remark) for remark in outcome.remarks],
        "constants": dict(outcome.constants),
        "catalogue": catalogue,
        "inputs": files,
        "masters": [
            {
                "label": m.facts.label,
                "key": m.facts.key,
                "file": m.path.name,
                "frames": m.facts.count,
                "clipped_share": m.facts.clipped_share,
                "made_with": [labels.get(key, key) for key in m.facts.made_with],
                "inputs": [{"file": name, "sha256": sha} for name, sha in m.facts.inputs],
            }
            for m in outcome.masters
        ],
        "chains": {
            chain.name: {
                "stations": [station.words for station in chain.stations],
                "remarks": chain.remarks,
                "masters": [labels.get(key, key) for key in chain.masters],
            }
            for chain in outcome.chains.values()
        },
        "exposures": {
            frame.name: _exposure_facts(outcome, index, frame)
            for index, frame in enumerate(night.exposures)
        },
        "report": facts_json(report_facts(outcome)),
        "settings": {"plan": plan.text},
        "versions": versions(__version__),
    }


def _sequence(plan: Plan) -> dict[str, object] | None:
    sequence = plan.sequence
    if sequence is None:
        return None
    return {
        "chart": sequence.chart, "sha256": sequence.sha256, "stars": list(sequence.stars.names),
    }  # fmt: skip


def _other(outcome: Outcome) -> dict[str, object]:
    """What is told of a target beside the first."""
    roles = {curve.filter: _roles(outcome, curve) for curve in outcome.curves}
    return {
        "target": target_name(outcome),
        **_joint_roles(roles),
        "filters": {curve.filter: _filter_facts(outcome, curve) for curve in outcome.curves},
    }


def _sources(sources: Sources) -> dict[str, object]:
    """The catalogues that the stars were looked up in."""
    told: dict[str, object] = {"sources": [vars(source) for source in sources.stars]}
    for source in sources.stars:
        if source.kind == "service":
            told.setdefault("cone", source.place)
        else:
            page = Atlas(Path(source.place)).page
            told |= {"atlas": source.words, "file": page.origin, "sha256": page.sha256}
    return told


def _joint_roles(roles: Mapping[str, Mapping[str, object]]) -> dict[str, object]:
    """Comparison and check at the top, by filter where the filters differ in more than weights."""

    def names(role: Mapping[str, object]) -> object:
        stars = role["comparison"]
        assert isinstance(stars, list)
        return sorted(star["name"] for star in stars), role["check"]

    if not roles:
        return {"comparison": [], "check": None}
    everyone = list(roles.values())
    if all(names(role) == names(everyone[0]) for role in everyone):
        return {"comparison": everyone[0]["comparison"], "check": everyone[0]["check"]}
    return {
        "comparison": {name: role["comparison"] for name, role in roles.items()},
        "check": {name: role["check"] for name, role in roles.items()},
    }


def _filter_facts(outcome: Outcome, curve: FilterCurve) -> dict[str, object]:
    return {
        **_roles(outcome, curve),
        "catalogue_band": curve.band,
        "exposures": len(curve.indices),
        "radius": curve.choice.reason,
        "night_scatter_mag_by_radius": curve.choice.night_scatter_mag.tolist(),
        "target_snr_by_radius": curve.choice.target_snr.tolist(),
        "radii_px": np.median(curve.census.radii_px, axis=0).tolist(),
        "extra_scatter_mag": curve.ensemble.extra_mag,
        "correlated_noise_mag": curve.floor_mag if np.isfinite(curve.floor_mag) else None,
        "correlated_noise_added": curve.floored,
        "common_offset_uncertainty_mag": curve.ensemble.common_offset_uncertainty_mag,
        "dropped": [{"name": d.name, "reason": d.reason} for d in curve.cast.dropped],
        "reasons": dict(curve.cast.reasons),
        "standard_scale": scale_facts(curve),
    }


def scale_facts(curve: FilterCurve) -> dict[str, object] | None:
    """How the standard scale was reached, with the coefficients."""
    terms = curve.terms
    if terms is None:
        return None

    def number(one: Coefficient | None) -> dict[str, object] | None:
        return None if one is None else vars(one)

    standard = curve.standard
    colours = standard.colour[np.isfinite(standard.colour)] if standard else np.empty(0)
    return {
        "index": terms.index.name,
        "coefficient": number(terms.transform),
        "why_none": terms.why,
        "second_order": number(terms.second_order),
        "extinction": number(terms.extinction),
        "mean_airmass": terms.airmass,
        "extinction_at_colour": terms.colour,
        "median_colour": float(np.median(colours)) if colours.size else None,
        "common_uncertainty_mag": standard.common_mag if standard else None,
    }


def _exposure_facts(outcome: Outcome, index: int, frame: Frame) -> dict[str, object]:
    result = outcome.results.get(index)
    facts: dict[str, object] = {
        "sha256": frame.sha256,
        "read_from": {
            field.name: reading.keyword
            for field in fields(frame.facts)
            if isinstance(reading := getattr(frame.facts, field.name), Reading)
        },
        "chain": chain_name(frame) if chain_name(frame) in outcome.chains else None,
    }
    if result and result.placement:
        placement = result.placement
        facts["placement"] = {
            "how": placement.how,
            "matched": placement.matched,
            "compared": placement.compared,
            "residual_arcsec": placement.residual_arcsec,
            "false_chance_log10": placement.false_log10,
            "wcs": on_file(frame, placement.solution).header(),
        }
    return facts

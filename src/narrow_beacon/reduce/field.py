"""The field of a plan: its catalogue, its target, and the band of each filter."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from narrow_beacon.core.catalogue.cone import search_cone
from narrow_beacon.core.catalogue.sky_index import SkyIndex
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.frames.sort import Frame
from narrow_beacon.plan import Plan, PlanError, cast_mistakes

_DEFAULT_CONE_DEG = 1.0
_MATCH_TARGET_DEG = 3.0 / 3600.0
_AS_V = ("clear", "l", "lum", "luminance", "none", "tg", "green")


def stars_of_plan(
    plan: Plan, exposures: Sequence[Frame], remarks: list[str]
) -> tuple[StarTable, int]:
    """The catalogue, from its file or service, and the target's row in it.

    A target that the catalogue lacks is added at the plan's position, with a remark. Raises
    PlanError where a service fails or a name is unknown.
    """
    stars = plan.stars
    if stars is None:
        assert plan.cone_url is not None
        try:
            stars = search_around(plan, exposures)
        except BeaconError as error:
            line = plan.line_of("catalogue", "cone")
            raise PlanError([f"{plan.path.name}:{line}: [catalogue] cone: {error}"]) from error
        mistakes = [
            f"{plan.path.name}:{plan.line_of('cast', key)}: [cast] {key}: {words}"
            for key, words in cast_mistakes(plan, stars)
        ]
        if mistakes:
            raise PlanError(mistakes)
    target = _find_target(plan, stars)
    if target is None:
        # The plan's checks made sure of a position.
        assert plan.target_ra_deg is not None
        assert plan.target_dec_deg is not None
        name = plan.target_name or "target"
        stars = stars.with_star(name, plan.target_ra_deg, plan.target_dec_deg)
        target = len(stars) - 1
        remarks.append(
            f"the catalogue has no star within 3″ of the target's position: {name} is measured "
            "there all the same"
        )
    return stars, target


def search_around(plan: Plan, exposures: Sequence[Frame]) -> StarTable:
    """The stars that the plan's service has about the target, wide enough for the exposures.

    Raises CatalogueError where the service fails.
    """
    assert plan.cone_url is not None
    assert plan.target_ra_deg is not None
    assert plan.target_dec_deg is not None
    radius = _DEFAULT_CONE_DEG
    if plan.scale_arcsec_per_px and exposures:
        radius = 1.5 * float(np.hypot(*exposures[0].shape)) * plan.scale_arcsec_per_px / 3600
    return search_cone(
        plan.cone_url, plan.target_ra_deg, plan.target_dec_deg, radius, epoch_yr=plan.epoch_yr
    )


def _find_target(plan: Plan, stars: StarTable) -> int | None:
    if plan.target_ra_deg is not None and plan.target_dec_deg is not None:
        ra, dec = stars.at_epoch(2000.0 if plan.epoch_yr is None else plan.epoch_yr)
        row, away = SkyIndex(ra, dec).nearest(plan.target_ra_deg, plan.target_dec_deg)
        if away < _MATCH_TARGET_DEG:
            return row
    if plan.target_name is not None:
        try:
            return stars.row(plan.target_name)
        except BeaconError:
            return None
    return None


def band_of(filter_name: str, stars: StarTable) -> str | None:
    """The catalogue's band for a filter's name: "V", "v", "Johnson V", "V_2" all mean V."""
    if filter_name in stars.bands:
        return filter_name
    words = filter_name.replace("_", " ").replace("-", " ").replace("'", "").split()
    for word in reversed(words):
        if word in stars.bands:
            return word
    by_case = {band.lower(): band for band in stars.bands}
    for word in reversed(words):
        if word.lower() in by_case:
            return by_case[word.lower()]
    if filter_name.lower() in _AS_V:
        return "V" if "V" in stars.bands else None
    return None

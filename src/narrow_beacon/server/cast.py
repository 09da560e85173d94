"""Cast: candidates with reasons, the line-up, steadiness, and who plays which part."""

from __future__ import annotations

import numpy as np
from apiflask import APIBlueprint
from flask import Response

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.curve.cast import Cast, colour_of, judge_together, rank_candidates
from narrow_beacon.core.curve.light_curve import star_curve
from narrow_beacon.core.curve.zero_points import ensemble_of
from narrow_beacon.reduce.curves import FilterCurve, looked_at
from narrow_beacon.server.curve import describe_curves
from narrow_beacon.server.curves import CurvesNow, curves_now, places_in
from narrow_beacon.server.kept import Kept
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.curve import CurveOut
from narrow_beacon.server.schemas.measure import FilterQuery
from narrow_beacon.server.schemas.stars import Candidate, Candidates, CastIn
from narrow_beacon.server.state import campaign_of, changing, quick, shared
from narrow_beacon.server.vet import finite
from narrow_beacon.store.actions import Change, act, new_cast
from narrow_beacon.store.campaigns import queue_job
from narrow_beacon.store.models import CastRecord
from narrow_beacon.store.sequences import stars_of

blueprint = APIBlueprint("cast", __name__)
_MOST_SERIES = 24


@blueprint.get("/api/campaigns/<int:number>/candidates")
@blueprint.input(FilterQuery, location="query", arg_name="query")
@blueprint.output(Candidates)
def candidates(number: int, query: FilterQuery) -> Candidates:
    """Comparison stars in force and those that could be, ranked, each with its own curve."""
    with shared().store.session() as session:
        now = curves_now(session, campaign_of(session, number))
    if now is None or not now.curves:
        return Candidates(filter="", band="", file_ids=[], candidates=[])
    curve = next((c for c in now.curves if c.filter == query.filter), now.curves[0])
    table = now.tables[curve.filter]
    some = looked_at(len(curve.indices))
    words, places = _ranked_words(now, curve, some), places_in(now, curve)[some]
    measured = set(table.rows.tolist())
    in_force = [row for row in (*now.cast.comparison, *now.cast.checks) if row in measured]
    dropped = [row for row in map(int, now.cast.dropped) if row in measured]
    # Those in force are all there, however many: the zero points are theirs.
    most = max(_MOST_SERIES, len(in_force))
    rows = list(dict.fromkeys([*in_force, *dropped, *words]))[:most]
    small, step = table.at_radius(curve.choice.step, places, np.array(sorted(rows))), 0
    ensemble = ensemble_of(small, step, now.stars, curve.band, curve.cast.comparison)
    usable = small.usable(step)
    _, noise = small.magnitudes(step)
    colour = colour_of(now.stars)
    known = now.stars.bands[curve.band].magnitude
    shown: list[tuple[int, int, float, Floats]] = []
    judged = []
    for row in rows:
        column = small.column(row)
        assert column is not None
        if row in curve.cast.comparison:
            series = ensemble.residual_mag[:, curve.cast.comparison.index(row)]
            series = series + ensemble.star_offset_mag[curve.cast.comparison.index(row)]
        else:
            magnitude = star_curve(small, step, ensemble, row).magnitude
            series = np.where(usable[:, column], magnitude - known[row], np.nan)
        middle = float(np.nanmedian(series)) if np.isfinite(series).any() else float("nan")
        sigma = np.sqrt(noise[:, column] ** 2 + ensemble.zero_point_uncertainty**2)
        widened = np.sqrt(sigma**2 + ensemble.extra_mag**2)
        shown.append((row, column, middle, series - middle))
        judged.append((series - middle, widened))
    found = []
    for (row, column, middle, series), verdict in zip(shown, judge_together(judged), strict=True):
        found.append(
            Candidate(
                row=row, name=now.stars.names[row], magnitude=finite(known[row]),
                colour=finite(colour[row]) if colour is not None else None,
                measured=finite(known[row] + middle), off_line=finite(middle),
                scatter_mag=finite(verdict.scatter_mag),
                expected_mag=finite(verdict.expected_mag), varies=bool(verdict.varies),
                present=float(usable[:, column].mean()),
                words=_reason(now, row, words), series=[finite(v) for v in series],
            )
        )  # fmt: skip
    return Candidates(
        filter=curve.filter, band=curve.band,
        file_ids=[now.files[curve.indices[at]].id for at in some.tolist()], candidates=found,
    )  # fmt: skip


_ranked: Kept[tuple[object, dict[int, str]]] = Kept(12)


def _ranked_words(now: CurvesNow, curve: FilterCurve, some: Ints) -> dict[int, str]:
    """The stars that could be comparison stars, the best first, with what speaks for them: judged
    once for the same target on the same exposures, whoever plays which part beside it.
    """
    table, places, step = now.tables[curve.filter], places_in(now, curve)[some], curve.choice.step

    def judged() -> tuple[object, dict[int, str]]:
        census = table.at_radius(step, places)
        ranked = rank_candidates(census, 0, now.stars, curve.band, now.cast.target, set())
        return now.stars, {candidate.row: candidate.words for candidate in ranked}

    # The stars are kept with it, so that no others can come to have their number.
    key = (id(now.stars), table.prints, places.tobytes(), step, curve.band, now.cast.target)
    return _ranked.get(key, judged)[1]


def _reason(now: CurvesNow, row: int, words: dict[int, str]) -> str:
    dropped = now.cast.dropped.get(str(row))
    if dropped:
        return dropped
    return words.get(row, now.cast.reasons.get(str(row), "named by the observer"))


@blueprint.post("/api/campaigns/<int:number>/cast")
@blueprint.input(CastIn, arg_name="body")
@blueprint.output(CurveOut)
def set_cast(number: int, body: CastIn) -> Response:
    """Give the roles; the answer is the curve that they make."""
    comparison = list(dict.fromkeys(body.comparison))
    checks = list(dict.fromkeys(body.checks))
    if body.target in (*comparison, *checks) or set(checks) & set(comparison):
        raise Problem(422, "One star, two parts", "A star can play one part only.")
    with changing(number) as (session, campaign):
        if campaign.catalogue_id is None:
            raise Problem(409, "No catalogue yet", "Name one in Intake first.")
        stars = stars_of(session, campaign)
        wanted = Cast(body.target, tuple(comparison), tuple(checks)).rows
        if any(not 0 <= row < len(stars) for row in wanted):
            raise Problem(422, "No such star", "The catalogue has changed; reload the page.")
        old = session.get(CastRecord, campaign.cast_id) if campaign.cast_id else None
        if old and (old.target, old.comparison, list(old.checks)) == (
            body.target, comparison, checks,
        ):  # fmt: skip
            return quick(describe_curves(session, campaign))
        cast = new_cast(session, campaign, body.target, comparison, checks)
        changes = [Change("campaign", campaign.id, "cast_id", cast.id)]
        if old and old.target != body.target:
            ra, dec = stars.ra_deg[body.target], stars.dec_deg[body.target]
            changes += [
                Change("campaign", campaign.id, "target_name", stars.names[body.target]),
                Change("campaign", campaign.id, "target_ra_deg", float(ra)),
                Change("campaign", campaign.id, "target_dec_deg", float(dec)),
                Change("campaign", campaign.id, "target_sure", True),
            ]
            # Other reasons to set exposures aside; the census holds all stars.
            queue_job(session, campaign, "settle")
        act(session, campaign, _words(stars.names, old, cast), changes)
        return quick(describe_curves(session, campaign))


def _words(names: tuple[str, ...], old: CastRecord | None, new: CastRecord) -> str:
    if old is None:
        return "chose the cast"
    if old.target != new.target:
        return f"made {names[new.target]} the target"
    parts = []
    for role, mine, theirs in (
        ("check", new.checks, old.checks), ("comparison", new.comparison, old.comparison),
    ):  # fmt: skip
        parts += [f"made {names[row]} a {role} star" for row in sorted(set(mine) - set(theirs))]
        lost = set(theirs) - set(mine) - {*new.checks, *new.comparison}
        parts += [f"{names[row]} is no longer a {role} star" for row in sorted(lost)]
    return "; ".join(parts) or "changed the order of the check stars"

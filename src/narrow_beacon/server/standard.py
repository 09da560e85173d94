"""The standard scale: how each filter depends on colour and air, and what the observer says."""

from __future__ import annotations

import numpy as np
from apiflask import APIBlueprint
from flask import Response
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from narrow_beacon.core.bands import in_order
from narrow_beacon.core.curve.colour_terms import Coefficient, ColourTerms
from narrow_beacon.core.transform_wish import GivenTerm, TransformWish
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.standard import USUAL_TERM, target_colour
from narrow_beacon.server.columns import listed
from narrow_beacon.server.curve import describe_curves
from narrow_beacon.server.curves import CurvesNow, curves_now
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.curve import CurveOut
from narrow_beacon.server.schemas.measure import FilterQuery
from narrow_beacon.server.schemas.standard import (
    AirOut,
    CoefficientOut,
    KeepIn,
    KeptOut,
    NightAirOut,
    ScaleOut,
    ScaleStar,
    TransformIn,
)
from narrow_beacon.server.state import campaign_of, changing, quick, shared
from narrow_beacon.server.vet import finite
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import now as this_moment
from narrow_beacon.store.campaigns import wish_of, wish_to_json
from narrow_beacon.store.models import Campaign, KeptTerm, NightFile
from narrow_beacon.store.terms import keep_term, kept_terms, mean_of

blueprint = APIBlueprint("standard", __name__)


@blueprint.get("/api/campaigns/<int:number>/scale")
@blueprint.input(FilterQuery, location="query", arg_name="query")
@blueprint.output(ScaleOut)
def scale(number: int, query: FilterQuery) -> ScaleOut:
    """How a filter's magnitudes depend on colour and air, with the stars that tell."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        now, curve = _curve_of(session, campaign, query.filter)
        found = _scale(now, curve, wish_of(campaign))
        kit = _kit_of(session, campaign, query.filter)
        kept = kept_terms(session, kit, query.filter, found.index)
        mean = _number(mean_of(kept))
        told = [
            KeptOut(
                id=one.id, coefficient=one.coefficient, uncertainty=one.uncertainty,
                airmass=one.airmass, stars=one.stars, nights=one.nights, campaign=one.campaign,
            )
            for one in kept
        ]  # fmt: skip
    return found.model_copy(update={"kit": kit, "kept": told, "kept_mean": mean})


def _curve_of(session: Session, campaign: Campaign, name: str) -> tuple[CurvesNow, FilterCurve]:
    """The curve of a filter. Raises Problem where there is none."""
    now = curves_now(session, campaign)
    curve = next((c for c in now.curves if c.filter == name), None) if now else None
    if now is None or curve is None:
        raise Problem(409, "Nothing measured yet", "Measure the night first.")
    return now, curve


def _kit_of(session: Session, campaign: Campaign, name: str) -> str:
    """The kit that took most of a filter's exposures."""
    of = (NightFile.campaign_id == campaign.id, NightFile.part == "exposure")
    count = func.count()
    found = session.execute(
        select(NightFile.kit, count).where(*of, NightFile.filter == name)
        .group_by(NightFile.kit).order_by(count.desc())
    ).first()  # fmt: skip
    return str(found[0])[:200] if found else ""


@blueprint.post("/api/campaigns/<int:number>/scale/keep")
@blueprint.input(KeepIn, arg_name="body")
@blueprint.output(Done)
def keep(number: int, body: KeepIn) -> Done:
    """Keep the coefficient that the field's stars give with the kit, for other campaigns."""
    with changing(number) as (session, campaign):
        now, curve = _curve_of(session, campaign, body.filter)
        terms = curve.terms
        if terms is None or terms.transform is None or not terms.transform.fitted:
            raise Problem(
                409, "Nothing to keep", "A coefficient is kept that the field's stars gave: take "
                "back what you gave for it first."
            )  # fmt: skip
        nights = [now.files[index].mid_utc for index in curve.indices]
        days = sorted({f"{moment:%Y-%m-%d}" for moment in nights if moment})
        kit, name = _kit_of(session, campaign, body.filter), campaign.name[:200]
        keep_term(
            session,
            KeptTerm(
                kit=kit, filter=body.filter, colour_index=terms.index.name,
                coefficient=terms.transform.value, uncertainty=terms.transform.uncertainty,
                airmass=terms.airmass, stars=terms.transform.fitted,
                nights=" to ".join(dict.fromkeys((days[0], days[-1]))) if days else "",
                campaign=name, kept=this_moment(),
            ),
        )  # fmt: skip
        campaign.revision += 1
        return Done(words=f"Kept for {body.filter} of {kit}.")


@blueprint.delete("/api/kept/<int:number>")
@blueprint.output(Done)
def forget(number: int) -> Done:
    """Keep a coefficient no longer."""
    with shared().store.session() as session:
        record = session.get(KeptTerm, number)
        if record is None:
            raise Problem(404, "No such coefficient", "It may have been removed in another tab.")
        session.delete(record)
    return Done(words="It is kept no longer.")


def _scale(now: CurvesNow, curve: FilterCurve, wish: TransformWish) -> ScaleOut:
    terms, standard = curve.terms, curve.standard
    if terms is None:
        return ScaleOut(
            filter=curve.filter, band=curve.band, index="", applied=False, given=False,
            why="the catalogue has magnitudes in one band only: no colour is known",
            bands=in_order(now.stars.bands),
        )  # fmt: skip
    colour = terms.index.of(now.stars)
    theirs = colour[list(curve.cast.comparison)]
    theirs = theirs[np.isfinite(theirs)]
    usual = float(theirs.mean()) if theirs.size else None
    own, source = _own_colour(now, curve, terms, wish)
    apart = None if own is None or usual is None else abs(own - usual)
    slope = abs(terms.transform.value) if terms.transform else USUAL_TERM
    return ScaleOut(
        filter=curve.filter, band=curve.band, index=terms.index.name,
        applied=standard is not None, given=curve.filter in wish.given, why=terms.why,
        bands=in_order(now.stars.bands), transform=_number(terms.transform),
        second_order=_number(terms.second_order), extinction=_number(terms.extinction),
        mean_airmass=terms.airmass, extinction_at=terms.colour, comparison_colour=usual,
        target_colour=own, colour_source=source,
        shift_mag=None if apart is None else slope * apart,
        common_mag=standard.common_mag if standard else None,
        level=terms.line.level if terms.line else None,
        slope=terms.line.slope if terms.line else None,
        centre=terms.line.centre if terms.line else None, stars=_stars(now, terms, colour),
        air=_air(now, curve, terms),
    )  # fmt: skip


def _air(now: CurvesNow, curve: FilterCurve, terms: ColourTerms) -> AirOut | None:
    air = terms.air
    if air is None:
        return None
    groups = [now.files[index].group_name for index in curve.indices]
    evenings = [str(name).split(" ")[0] for name in air.nights]
    return AirOut(
        airmass=listed(np.round(air.airmass, 4)), zero_point=listed(np.round(air.zero, 5)),
        fitted=listed(np.round(air.fitted(groups), 5)), used=air.used.tolist(),
        file_ids=[now.files[index].id for index in curve.indices], group=groups,
        nights=[
            NightAirOut(group=name, night=evening, value=k.value, uncertainty=k.uncertainty,
                        fitted=k.fitted)
            for (name, k), evening in zip(air.nights.items(), evenings, strict=True)
        ],
    )  # fmt: skip


def _own_colour(
    now: CurvesNow, curve: FilterCurve, terms: ColourTerms, wish: TransformWish
) -> tuple[float | None, str]:
    """The target's usual colour, and where it is from."""
    known = target_colour(terms.index, now.cast.target, now.stars, wish)
    used = curve.standard.colour if curve.standard else np.empty(0)
    used = used[np.isfinite(used)]
    if used.size and np.ptp(used) > 0:
        return float(np.median(used)), "measured"
    if known is None:
        return None, ""
    return known[0], "typed" if wish.colour is not None else "catalogue"


def _number(one: Coefficient | None) -> CoefficientOut | None:
    if one is None:
        return None
    return CoefficientOut(value=one.value, uncertainty=one.uncertainty, fitted=one.fitted)


def _stars(now: CurvesNow, terms: ColourTerms, colour: np.ndarray) -> list[ScaleStar]:
    line, rows = terms.line, terms.stars
    if line is None or rows is None:
        return []
    unsure = terms.index.uncertainty(now.stars)
    return [
        ScaleStar(
            row=int(row), name=now.stars.names[row], colour=float(colour[row]),
            colour_uncertainty=float(unsure[row]),
            offset_mag=float(
                line.level + line.slope * (colour[row] - line.centre) + line.residual[at]
            ),
            offset_uncertainty=finite(terms.sigma[at]) if terms.sigma is not None else None,
            used=bool(line.used[at]),
        )
        for at, row in enumerate(rows)
    ]  # fmt: skip


@blueprint.post("/api/campaigns/<int:number>/transform")
@blueprint.input(TransformIn, arg_name="body")
@blueprint.output(CurveOut)
def set_transform(number: int, body: TransformIn) -> Response:
    """Say something of the standard scale; the answer is the curve that it makes."""
    with changing(number) as (session, campaign):
        old = wish_of(campaign)
        given = dict(old.given)
        for name, term in (body.given or {}).items():
            if term is None:
                given.pop(name, None)
            else:
                given[name] = GivenTerm(term.coefficient, term.uncertainty, term.index)
        wish = TransformWish(
            old.apply if body.apply is None else body.apply, given,
            _merged(old.extinction, body.extinction), _merged(old.second_order, body.second_order),
            body.colour if "colour" in body.model_fields_set else old.colour,
        )  # fmt: skip
        if wish == old:
            return quick(describe_curves(session, campaign))
        act(
            session, campaign, _words(old, wish),
            [Change("campaign", campaign.id, "transform", wish_to_json(wish))],
        )  # fmt: skip
        return quick(describe_curves(session, campaign))


def _merged(old: object, new: dict[str, float | None] | None) -> dict[str, float]:
    assert isinstance(old, dict)
    both = {**old, **(new or {})}
    return {name: value for name, value in both.items() if value is not None}


def _words(old: TransformWish, new: TransformWish) -> str:
    if old.apply != new.apply:
        return "brought magnitudes to the standard scale" if new.apply else (
            "left magnitudes on the instrument's own scale"
        )  # fmt: skip
    if old.colour != new.colour:
        return "took back the target's colour" if new.colour is None else (
            f"gave the target the colour {new.colour:g}"
        )  # fmt: skip
    names = sorted(
        name for name in {*old.given, *new.given} if old.given.get(name) != new.given.get(name)
    )
    if names:
        return f"changed the colour coefficient in {', '.join(names)}"
    return "changed the extinction"

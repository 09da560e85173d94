"""A society's sequence taken from a file, and the campaign's own written as one."""

from __future__ import annotations

import tempfile
from pathlib import Path

from apiflask import APIBlueprint
from flask import Response

from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.sequence import StarSequence, overlay
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.report.sequence import FORMATS, write_sequence
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.stars import SequenceIn
from narrow_beacon.server.state import campaign_of, changing, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import queue_job
from narrow_beacon.store.fields import star_table
from narrow_beacon.store.models import Campaign, CastRecord
from narrow_beacon.store.sequences import sequence_to_json, stars_of
from narrow_beacon.store.targets import targets_of

blueprint = APIBlueprint("sequence", __name__)


@blueprint.post("/api/campaigns/<int:number>/sequence")
@blueprint.input(SequenceIn, arg_name="body")
@blueprint.output(Done)
def take_sequence(number: int, body: SequenceIn) -> Done:
    """Lay the stars of a file over the catalogue; without a file, take them off."""
    with changing(number) as (session, campaign):
        if campaign.catalogue_id is None:
            raise Problem(409, "No catalogue yet", "Name one in Intake first.")
        if not body.file:
            act(session, campaign, "took the sequence off", [_change(campaign, None)])
            words = "The catalogue's own magnitudes are in force again."
        else:
            path = shared().folders.check(body.file)
            try:
                own = read_catalogue(path, body.epoch_yr, body.columns)
            except CatalogueError as error:
                raise Problem(422, "Not a sequence", f"{error}.") from error
            sequence = StarSequence(own, body.chart.strip(), file_sha256(path))
            plain = star_table(session, campaign.catalogue_id)
            laid = overlay(plain, sequence)
            found = sum(row >= 0 for row in laid.rows)
            if not found:
                raise Problem(
                    422, "Of another field",
                    f"None of its {len(own)} stars is in the catalogue, of like brightness "
                    "within 6″: see whether it is of this field, and what its columns mean.",
                )  # fmt: skip
            kept = sequence_to_json(sequence, path, body.columns)
            touched = ["bands"] if set(laid.stars.bands) != set(plain.bands) else []
            words = f"took the sequence {body.chart.strip() or path.name}"
            act(session, campaign, words, [_change(campaign, kept)], touched=touched)
            words = f"{found} of its {len(own)} stars are in the catalogue."
        if campaign.cast_id:
            queue_job(session, campaign, "settle")
    return Done(words=words)


def _change(campaign: Campaign, kept: dict[str, object] | None) -> Change:
    return Change("campaign", campaign.id, "sequence", kept)


@blueprint.get("/api/campaigns/<int:number>/sequence.<kind>")
@blueprint.doc(hide=True)
def own_sequence(number: int, kind: str) -> Response:
    """The comparison and check stars of all targets, as a sequence that others can read."""
    if kind not in FORMATS:
        raise Problem(404, "No such format", f"A sequence comes as {', '.join(FORMATS)}.")
    with shared().store.session() as session, tempfile.TemporaryDirectory() as folder:
        campaign = campaign_of(session, number)
        if campaign.catalogue_id is None or campaign.cast_id is None:
            raise Problem(409, "No cast yet", "Give the parts in Cast first.")
        stars = stars_of(session, campaign)
        casts = [
            session.get_one(CastRecord, one.cast_id) for one in targets_of(campaign) if one.cast_id
        ]
        serving = {row for cast in casts for row in (*cast.comparison, *cast.checks)}
        rows = [int(row) for row in stars.brightness_order() if int(row) in serving]
        path = Path(folder) / f"sequence.{kind}"
        write_sequence(stars, rows, (campaign.sequence or {}).get("chart", ""), path)
        return Response(path.read_bytes(), content_type="text/plain; charset=utf-8")

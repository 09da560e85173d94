"""What is put forward to be set aside, by the looks of the exposures."""

from __future__ import annotations

from narrow_beacon.jobs.work import Work
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.reduce.vet import out_of_focus
from narrow_beacon.store.campaigns import files_of
from narrow_beacon.store.codec import quality_from_json
from narrow_beacon.store.models import NightFile


def propose_by_looks(work: Work) -> None:
    """Propose to set aside what is out of focus or drawn out, judged within night and filter."""
    with work.store.session() as session:
        campaign = work.campaign(session)
        groups: dict[tuple[int | None, str], list[NightFile]] = {}
        for file in files_of(session, campaign):
            if file.part == "exposure" and file.quality:
                groups.setdefault((file.night_id, file.filter), []).append(file)
        for files in groups.values():
            reasons = out_of_focus([_looks(file) for file in files])
            for file in files:
                set_proposal(file, reasons.get(file.id, ""))
        campaign.revision += 1


def set_proposal(file: NightFile, reason: str) -> None:
    """Put a reason forward, unless the observer decided on this exposure."""
    undecided = not file.kept and not file.aside_by and not file.trouble
    file.proposal = reason if undecided else ""


def _looks(file: NightFile) -> ExposureResult:
    return ExposureResult(file.id, None, quality_from_json(file.quality), None, None)

"""Sort: read the headers of new files, and tell exposures from calibration frames."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from narrow_beacon.core.frames.sort import RawFile, list_files
from narrow_beacon.jobs.work import Work
from narrow_beacon.reduce.tasks import read_raw_files
from narrow_beacon.store.campaigns import CampaignNights, add_raw_files, files_of, refresh_files
from narrow_beacon.store.codec import dump
from narrow_beacon.store.models import Campaign

_FILES_PER_TASK = 8


def sort_folders(work: Work) -> None:
    """Read every file below the campaign's folders that is new or has changed; sort them all."""
    with work.store.session() as session:
        campaign = work.campaign(session)
        folders = [Path(folder) for folder in campaign.folders]
        known = {f.path: (f.size, f.modified_ns) for f in files_of(session, campaign)}
    paths = list_files(folders)
    fresh = [path for path in paths if known.get(str(path)) != _state(path)]
    calls = [
        ([(path, path.name) for path in fresh[i : i + _FILES_PER_TASK]],)
        for i in range(0, len(fresh), _FILES_PER_TASK)
    ]
    work.reporter.start("reading headers", len(paths), len(paths) - len(fresh))

    def keep(part: tuple[list[str], list[RawFile]]) -> None:
        names, raws = part
        read = zip(map(Path, names), raws, strict=True)
        with work.store.session() as session:
            add_raw_files(session, work.campaign(session), list(read))
        work.reporter.advance(len(raws))

    work.pool.map(_read_with_paths, calls, keep)
    with work.store.session() as session:
        campaign = work.campaign(session)
        gone = set(known) - {str(path) for path in paths}
        for file in files_of(session, campaign):
            if file.path in gone:
                file.raw = dump(
                    RawFile(file.name, "", None, None, "no longer there; was it moved?")
                )
        nights = refresh_files(session, campaign)
        _take_target_from_headers(campaign, nights)
        campaign.revision += 1


def _read_with_paths(paths: Sequence[tuple[Path, str]]) -> tuple[list[str], list[RawFile]]:
    return [str(path) for path, _ in paths], read_raw_files(paths)


def _state(path: Path) -> tuple[int, str]:
    try:
        status = path.stat()
    except OSError:
        return 0, ""
    return status.st_size, str(status.st_mtime_ns)


def _take_target_from_headers(campaign: Campaign, nights: CampaignNights) -> None:
    """Where the telescope pointed, and at what, until the observer says what the target is."""
    if campaign.target_sure or campaign.target_ra_deg is not None:
        return
    for frame in nights.night.exposures:
        facts = frame.facts
        if facts.ra_deg and facts.dec_deg:
            campaign.target_name = facts.object_name.value if facts.object_name else ""
            campaign.target_ra_deg = facts.ra_deg.value
            campaign.target_dec_deg = facts.dec_deg.value
            return

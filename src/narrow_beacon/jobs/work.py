"""What every step of a job works with: records, tasks, progress."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.gate import Gate
from narrow_beacon.jobs.progress import Reporter
from narrow_beacon.reduce.workers import Pool
from narrow_beacon.store.database import Store
from narrow_beacon.store.models import Campaign


class NotReadyError(BeaconError):
    """A step that needs an earlier one; says which, and what to do."""


@dataclass
class Work:
    """One job's surroundings: records, pool, progress, and which files may be read."""

    store: Store
    pool: Pool
    campaign_id: int
    reporter: Reporter
    cancelled: Callable[[], bool]
    gate: Gate
    holds: Callable[[Path], bool] = lambda _: False
    """Whether a file is still being written."""
    wish: Mapping[str, Any] = field(default_factory=dict)
    """What the job is asked for beside its kind."""

    def folder(self, *parts: str) -> Path:
        """A folder of this campaign below the data folder."""
        return self.store.folder(f"campaign-{self.campaign_id}", *parts)

    def campaign(self, session: Session) -> Campaign:
        """The campaign's record."""
        return session.get_one(Campaign, self.campaign_id)

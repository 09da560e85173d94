"""The records. Values of the core are kept as JSON by the codecs beside this module."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    DateTime,
    Double,
    FetchedValue,
    ForeignKey,
    Index,
    String,
    Text,
    UniqueConstraint,
)
from sqlalchemy.dialects.mysql import DATETIME, MEDIUMTEXT
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

_MOMENT = DateTime().with_variant(DATETIME(fsp=6), "mysql", "mariadb")
_LONG_TEXT = Text().with_variant(MEDIUMTEXT(), "mysql", "mariadb")


class Record(DeclarativeBase):
    """Base of all records: each has a number of its own."""

    type_annotation_map = {  # noqa: RUF012 - SQLAlchemy reads it
        dict[str, Any]: JSON,
        list[Any]: JSON,
        datetime: _MOMENT,
        float: Double,
    }
    id: Mapped[int] = mapped_column(primary_key=True)


class Site(Record):
    """Where the telescope stands; east longitudes are positive."""

    __tablename__ = "site"
    name: Mapped[str] = mapped_column(String(120))
    latitude_deg: Mapped[float]
    longitude_deg: Mapped[float]
    elevation_m: Mapped[float] = mapped_column(default=0.0)


class Kit(Record):
    """Telescope, camera and their constants; None where they are to be read or measured."""

    __tablename__ = "kit"
    name: Mapped[str] = mapped_column(String(120))
    gain_e_per_adu: Mapped[float | None]
    read_noise_e: Mapped[float | None]
    linear_limit_adu: Mapped[float | None]
    aperture_m: Mapped[float | None]
    scale_arcsec_per_px: Mapped[float | None]
    timestamp: Mapped[str] = mapped_column(String(10), default="start")
    clock_offset_s: Mapped[float] = mapped_column(default=0.0)


class Catalogue(Record):
    """A star catalogue as it was read: from a file, or from a cone search."""

    __tablename__ = "catalogue"
    name: Mapped[str] = mapped_column(String(200))
    origin: Mapped[str] = mapped_column(String(1000))
    sha256: Mapped[str] = mapped_column(String(64), default="")
    epoch_yr: Mapped[float]
    bands: Mapped[list[Any]]
    fetched: Mapped[datetime | None]
    """When it was looked up in other catalogues."""


class StarSource(Record):
    """A catalogue of the observatory, for all campaigns: a file that was made into an atlas, or a
    service. ``role`` is "stars" or "variables", ``kind`` "file" or "service", ``state`` "making",
    "ready" or "failed" with the reason in ``words``; those of ``stars`` are tried in the order of
    ``position``.
    """

    __tablename__ = "star_source"
    name: Mapped[str] = mapped_column(String(200))
    role: Mapped[str] = mapped_column(String(12), default="stars")
    kind: Mapped[str] = mapped_column(String(12))
    place: Mapped[str] = mapped_column(String(2000))
    """The file's path or the service's address."""
    columns: Mapped[dict[str, Any]]
    """What the observer says of its columns, by meaning or band."""
    epoch_yr: Mapped[float | None]
    position: Mapped[int] = mapped_column(default=0)
    state: Mapped[str] = mapped_column(String(12), default="ready")
    words: Mapped[str] = mapped_column(Text, default="")
    done: Mapped[int] = mapped_column(default=0)
    """While it is made: rows that were read, or hundredths of the patterns."""
    stars: Mapped[int] = mapped_column(default=0)
    bands: Mapped[list[Any]]
    folder: Mapped[str] = mapped_column(String(1000), default="")
    """The atlas."""
    added: Mapped[datetime]


class KeptTerm(Record):
    """A filter's colour coefficient as a campaign's stars gave it, kept with the kit."""

    __tablename__ = "kept_term"
    kit: Mapped[str] = mapped_column(String(200), index=True)
    filter: Mapped[str] = mapped_column(String(40))
    colour_index: Mapped[str] = mapped_column(String(40))
    coefficient: Mapped[float]
    uncertainty: Mapped[float]
    airmass: Mapped[float]
    """That it holds at."""
    stars: Mapped[int]
    nights: Mapped[str] = mapped_column(String(40))
    campaign: Mapped[str] = mapped_column(String(200))
    kept: Mapped[datetime]


class Star(Record):
    """A star of a catalogue, by its row there. Magnitudes by band: [value, uncertainty]."""

    __tablename__ = "star"
    __table_args__ = (UniqueConstraint("catalogue_id", "row_number"),)
    catalogue_id: Mapped[int] = mapped_column(ForeignKey("catalogue.id"))
    row_number: Mapped[int]
    name: Mapped[str] = mapped_column(String(120))
    ra_deg: Mapped[float]
    dec_deg: Mapped[float]
    pm_ra_mas_yr: Mapped[float]
    pm_dec_mas_yr: Mapped[float]
    known_variable: Mapped[bool]
    parallax_mas: Mapped[float | None]
    note: Mapped[str] = mapped_column(String(200), default="", server_default="")
    """How it varies, where a catalogue says so."""
    magnitudes: Mapped[dict[str, Any]]


class Campaign(Record):
    """One field followed over nights, with what is in force for its target in front now."""

    __tablename__ = "campaign"
    name: Mapped[str] = mapped_column(String(120))
    created: Mapped[datetime]
    folders: Mapped[list[Any]]
    target_name: Mapped[str] = mapped_column(String(120), default="")
    target_ra_deg: Mapped[float | None]
    target_dec_deg: Mapped[float | None]
    target_sure: Mapped[bool] = mapped_column(default=False)
    """False while the position is only where the headers say the telescope pointed."""
    default_filter: Mapped[str | None] = mapped_column(String(40))
    site_id: Mapped[int | None] = mapped_column(ForeignKey("site.id"))
    kit_id: Mapped[int | None] = mapped_column(ForeignKey("kit.id"))
    catalogue_id: Mapped[int | None] = mapped_column(ForeignKey("catalogue.id"))
    cone_url: Mapped[str | None] = mapped_column(String(1000))
    sources: Mapped[dict[str, Any] | None]
    """Beside that: "stars" and "variables", lists of a plan's catalogues, and whether to "merge"
    what there is."""
    floor: Mapped[bool] = mapped_column(default=False, server_default="0")
    points: Mapped[dict[str, Any] | None]
    """What is asked of the curves' points, as ``store.points`` reads it."""
    """Whether uncertainties hold the night's correlated noise, too."""
    sequence: Mapped[dict[str, Any] | None]
    """Comparison stars of a society with its magnitudes, as ``store.sequences`` keeps them."""
    wanted_comparison: Mapped[list[Any]]
    """Names that came with a plan; the first cast is made of them."""
    wanted_check: Mapped[str | None] = mapped_column(String(120))
    wanted_more_checks: Mapped[list[Any] | None]
    targets: Mapped[list[Any] | None]
    """Where there are several, all in order as ``store.targets`` keeps them; None stands for the
    one in front, whom the fields above and below hold."""
    cast_id: Mapped[int | None]
    recipe_id: Mapped[int | None]
    layout: Mapped[str] = mapped_column(String(200), default="plain")
    doubtful: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Whether doubtful points are reported too."""
    reporting: Mapped[dict[str, Any] | None]
    """What reports say and hold back, as ``store.reporting`` keeps it."""
    revision: Mapped[int] = mapped_column(default=0)
    """Grows with every change, so that a page knows when it shows an old state."""
    changed_since: Mapped[str] = mapped_column(String(200), default="")
    """What was changed after measuring, so that the censuses are out of date; else nothing."""
    files_stamp: Mapped[str] = mapped_column(String(32), default="")
    """A new one whenever the files are sorted: what was kept of an older sorting is recognised."""
    picks: Mapped[dict[str, Any]]
    """The observer's choice of masters: by chain, then by step, a master's key."""
    masters_with: Mapped[str] = mapped_column(String(64), default="")
    """Fingerprint of what masters and chains were made of; another one means that they are old."""
    remarks: Mapped[list[Any]]
    """Not in use: remarks are records of their own."""
    constants: Mapped[dict[str, Any]]
    library: Mapped[str | None] = mapped_column(String(2000))
    """The folder of masters of earlier nights."""
    epoch_yr: Mapped[float | None]
    """Of the catalogue's positions, where no column says it."""
    bands: Mapped[dict[str, Any] | None]
    """The catalogue's band by filter, where the observer says so."""
    measuring: Mapped[dict[str, Any] | None]
    """Radius and sky ring as the observer wants them: radius_px or radius_fwhm, annulus, and
    annulus_in_pixels."""
    cameras: Mapped[dict[str, Any] | None]
    """The camera's constants by chain, as the census was made with."""
    measured_chains: Mapped[dict[str, Any] | None]
    """The fingerprints of the chains that the census was made with, by chain."""
    archived: Mapped[bool] = mapped_column(default=False, server_default="0")
    defects: Mapped[dict[str, Any] | None]
    """What counted as a defect, whatever the kit, before words on kits were kept."""
    kits: Mapped[dict[str, Any] | None]
    """What the observer says of its kits: "said", by the kit's name, and whether it was "taken"
    from the observatory's when its chains were first made; None before."""
    leave_out: Mapped[list[Any] | None]
    """Names of files that a plan leaves out."""
    shelf: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Whether bias and darks of other campaigns serve it too."""
    watching: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Whether files are taken in as they are written."""
    pattern: Mapped[str | None] = mapped_column(String(4))
    """The colour pattern of the sensor, where the observer says it."""
    vetting: Mapped[dict[str, Any] | None]
    """Rules and limits of vetting, as in a plan's [vet]: "rules", "limits", "keep", "set_aside"."""
    transform: Mapped[dict[str, Any] | None]
    """What the observer says of the standard scale, as a TransformWish; None: nothing."""
    pointings: Mapped[list[Any] | None]
    """Stars that were pointed at, as they were measured."""
    series: Mapped[dict[str, Any] | None]
    """By a star's name its elements, the chosen ones, times from elsewhere, and cycles that were
    corrected, as ``store.series`` keeps them."""
    reference: Mapped[dict[str, Any] | None]
    """The exposure that others are matched to: "file", its number, "by" whom, "words" why."""


class Night(Record):
    """A night of a campaign, by the date of its evening."""

    __tablename__ = "night"
    __table_args__ = (UniqueConstraint("campaign_id", "evening"),)
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    evening: Mapped[str] = mapped_column(String(10))


class NightFile(Record):
    """A file of a campaign: what it says, what the observer says, what came of it.

    ``part`` is "exposure", "calibration" or "left out", with ``part_reason``, "colours" where its
    colours are exposures of their own, or "removed" with its folder. Exposures carry
    quality, state and reason: ``aside_by`` is "" for one that takes part, else "program" or
    "observer"; ``proposal`` is a reason that the program puts forward; ``kept`` means that the
    observer restored it, so that no proposal applies.
    """

    __tablename__ = "night_file"
    __table_args__ = (
        UniqueConstraint("campaign_id", "path_sha256"),
        Index("by_part", "campaign_id", "part"),
        Index("by_path", "campaign_id", "path", mysql_length={"path": 200}),
        Index("by_change", "campaign_id", "part", "changed"),
        *(Index(f"by_{word}", "campaign_id", "part", word) for word in ("filter", "kit", "chain")),
    )
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    night_id: Mapped[int | None] = mapped_column(ForeignKey("night.id"))
    path: Mapped[str] = mapped_column(String(2000))
    path_sha256: Mapped[str] = mapped_column(String(64))
    name: Mapped[str] = mapped_column(String(1000))
    sha256: Mapped[str] = mapped_column(String(64), default="")
    size: Mapped[int]
    modified_ns: Mapped[str] = mapped_column(String(24))
    raw: Mapped[str] = mapped_column(_LONG_TEXT, deferred=True)
    correction: Mapped[dict[str, Any]]
    part: Mapped[str] = mapped_column(String(12), default="")
    part_reason: Mapped[str] = mapped_column(Text, default="")
    kind: Mapped[str] = mapped_column(String(16), default="")
    filter: Mapped[str] = mapped_column(String(40), default="")
    exposure_s: Mapped[float | None]
    mid_utc: Mapped[datetime | None]
    temperature_c: Mapped[float | None]
    chain: Mapped[str] = mapped_column(String(400), default="")
    group_name: Mapped[str] = mapped_column(String(300), default="", server_default="")
    """Night, filter and kit."""
    kit: Mapped[str] = mapped_column(String(200), default="", server_default="")
    width: Mapped[int] = mapped_column(default=0, server_default="0")
    height: Mapped[int] = mapped_column(default=0, server_default="0")
    away: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Not there at the last look; what is known of it is kept."""
    quality: Mapped[dict[str, Any] | None]
    trouble: Mapped[str] = mapped_column(Text, default="")
    """Why it could not be read, placed or measured; empty where it could."""
    aside_by: Mapped[str] = mapped_column(String(10), default="")
    aside_reason: Mapped[str] = mapped_column(Text, default="")
    proposal: Mapped[str] = mapped_column(Text, default="")
    kept: Mapped[bool] = mapped_column(default=False)
    placed_with: Mapped[str] = mapped_column(String(64), default="")
    """Fingerprint of what it was placed with; another one means that it is out of date."""
    measured_with: Mapped[str] = mapped_column(String(64), default="")
    parent_id: Mapped[int | None]
    """The file that this is a colour of."""
    looked_with: Mapped[str] = mapped_column(String(64), default="", server_default="")
    """Fingerprint of what its looks were told from."""
    match: Mapped[dict[str, Any] | None]
    """How it lies on the reference: "to", its number; "plane", from pixels to the reference's, or
    "problem"; "matched", "residual_px", "turn_deg", "mirrored", "false_log10"."""
    changed: Mapped[datetime | None] = mapped_column(
        server_default=FetchedValue(), server_onupdate=FetchedValue(), deferred=True
    )
    """When the record was last written, as the database says it."""
    evidence: Mapped[dict[str, Any] | None]
    """What shows of its trouble: "light", the share of the clear night's; "shaded" parts."""


class MasterRecord(Record):
    """A master that was built or imported, and the file that holds it. One without a campaign is
    the shelf's own; ``origin`` says where it came from.
    """

    __tablename__ = "master"
    campaign_id: Mapped[int | None] = mapped_column(ForeignKey("campaign.id"))
    origin: Mapped[str] = mapped_column(String(200), default="", server_default="")
    label: Mapped[str] = mapped_column(String(200))
    path: Mapped[str] = mapped_column(String(1000))
    facts: Mapped[str] = mapped_column(_LONG_TEXT)
    made: Mapped[datetime]
    retired: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Whether other campaigns take it from the shelf no more."""


class KitWordRecord(Record):
    """What the observer said of a kit: rules, constants, defects. Never edited, only followed by
    another; the newest that is not withdrawn is what a new campaign begins with.
    """

    __tablename__ = "kit_word"
    kit: Mapped[str] = mapped_column(String(300), index=True)
    said: Mapped[datetime]
    words: Mapped[dict[str, Any]]
    campaign: Mapped[str] = mapped_column(String(120), default="")
    """In which campaign."""
    withdrawn: Mapped[bool] = mapped_column(default=False, server_default="0")


class ChainRecord(Record):
    """How exposures of one kind are corrected; ``report`` is the core's ChainReport."""

    __tablename__ = "chain"
    __table_args__ = (UniqueConstraint("campaign_id", "name"),)
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    name: Mapped[str] = mapped_column(String(400))
    report: Mapped[str] = mapped_column(_LONG_TEXT)
    fingerprint: Mapped[str] = mapped_column(String(64))


class DefectMap(Record):
    """The defects of a chain and the file that marks them."""

    __tablename__ = "defect_map"
    chain_id: Mapped[int] = mapped_column(ForeignKey("chain.id", ondelete="CASCADE"))
    path: Mapped[str] = mapped_column(String(1000))
    count: Mapped[int]


class PlacementRecord(Record):
    """Where an exposure is on the sky; ``solution`` is the core's Solution."""

    __tablename__ = "placement"
    file_id: Mapped[int] = mapped_column(
        ForeignKey("night_file.id", ondelete="CASCADE"), unique=True
    )
    solution: Mapped[dict[str, Any]]
    matched: Mapped[int]
    compared: Mapped[int]
    residual_px: Mapped[float]
    false_log10: Mapped[float]
    how: Mapped[str] = mapped_column(String(200))


class CastRecord(Record):
    """Who plays which part: rows of the catalogue. Never edited, only followed by another."""

    __tablename__ = "cast_of_stars"
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    version: Mapped[int]
    created: Mapped[datetime]
    target: Mapped[int]
    comparison: Mapped[list[Any]]
    check_star: Mapped[int | None]
    """The one that reports name."""
    more_checks: Mapped[list[Any] | None]
    reasons: Mapped[dict[str, Any]]
    dropped: Mapped[dict[str, Any]]
    automatic: Mapped[bool] = mapped_column(default=False, server_default="0")
    """The program chose it, so that more nights may change it."""

    @property
    def checks(self) -> tuple[int, ...]:
        """All check stars, the one that reports name first."""
        first = () if self.check_star is None else (self.check_star,)
        return (*first, *(self.more_checks or ()))


class Recipe(Record):
    """Settings of a reduction. Never edited, only followed by another version.

    ``steps`` are the radius steps by filter; ``automatic`` says that the program chose them.
    """

    __tablename__ = "recipe"
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    version: Mapped[int]
    created: Mapped[datetime]
    steps: Mapped[dict[str, Any]]
    automatic: Mapped[bool]
    annulus_inner_fwhm: Mapped[float] = mapped_column(default=3.5)
    annulus_outer_fwhm: Mapped[float] = mapped_column(default=5.5)


class CensusFile(Record):
    """The stars of one night and filter as a Parquet file."""

    __tablename__ = "census_file"
    __table_args__ = (UniqueConstraint("campaign_id", "group_name"),)
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    group_name: Mapped[str] = mapped_column(String(300))
    filter: Mapped[str] = mapped_column(String(40))
    path: Mapped[str] = mapped_column(String(1000))
    fingerprint: Mapped[str] = mapped_column(String(64))
    exposures: Mapped[int]
    fwhm_px: Mapped[float]
    annulus_px: Mapped[list[Any] | None]
    """Inner and outer radius of the sky ring."""


class Reduction(Record):
    """A curve as it was at one moment, with everything that made it."""

    __tablename__ = "reduction"
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    cast_id: Mapped[int] = mapped_column(ForeignKey("cast_of_stars.id"))
    recipe_id: Mapped[int] = mapped_column(ForeignKey("recipe.id"))
    created: Mapped[datetime]
    version: Mapped[str] = mapped_column(String(40))
    star: Mapped[str] = mapped_column(String(120), default="", server_default="")
    """The target's name, to whom the points belong."""


class Point(Record):
    """A point of a reduction's curve."""

    __tablename__ = "point"
    __table_args__ = (Index("by_reduction", "reduction_id"),)
    reduction_id: Mapped[int] = mapped_column(ForeignKey("reduction.id", ondelete="CASCADE"))
    file_id: Mapped[int] = mapped_column(ForeignKey("night_file.id", ondelete="CASCADE"))
    filter: Mapped[str] = mapped_column(String(40))
    jd_utc: Mapped[float]
    magnitude: Mapped[float]
    uncertainty: Mapped[float]


class Report(Record):
    """What was handed out, and when."""

    __tablename__ = "report"
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    reduction_id: Mapped[int] = mapped_column(ForeignKey("reduction.id"))
    created: Mapped[datetime]
    layout: Mapped[str] = mapped_column(String(200))
    folder: Mapped[str] = mapped_column(String(1000))
    files: Mapped[list[Any]]
    points: Mapped[int]
    value: Mapped[str] = mapped_column(String(40), default="", server_default="")
    """Which magnitude went out; empty for old ones, which the layout tells."""
    scope: Mapped[str] = mapped_column(String(20), default="all", server_default="all")
    """"all" points, the "new" ones, or the "changed" ones: a correction of earlier reports."""
    deleted: Mapped[list[Any] | None]
    """Points that this report takes back, by file and filter."""
    recipient: Mapped[str] = mapped_column(String(200), default="", server_default="")
    sent: Mapped[datetime | None]
    note: Mapped[str] = mapped_column(String(2000), default="", server_default="")
    """The recipient's receipt, or what the observer wants to remember."""


class KeptLayout(Record):
    """A report layout of the observatory's own."""

    __tablename__ = "layout_kept"
    name: Mapped[str] = mapped_column(String(60), unique=True)
    text: Mapped[str] = mapped_column(Text)
    changed: Mapped[datetime]


class RemarkRecord(Record):
    """A remark of the step that made it, in place of those of its last time; ``seen`` by the
    observer stays as long as the words do.
    """

    __tablename__ = "remark"
    __table_args__ = (Index("by_stage", "campaign_id", "stage"),)
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    step: Mapped[str] = mapped_column(String(20))
    place: Mapped[int]
    """Among the step's remarks."""
    stage: Mapped[str] = mapped_column(String(12))
    about: Mapped[str] = mapped_column(String(400), default="")
    words: Mapped[str] = mapped_column(Text)
    matters: Mapped[str] = mapped_column(Text, default="")
    remedy: Mapped[str] = mapped_column(Text, default="")
    seen: Mapped[bool] = mapped_column(default=False)


class Job(Record):
    """Long work: how far it is, what failed and why.

    ``state`` is "waiting", "running", "done", "failed" or "cancelled".
    """

    __tablename__ = "job"
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    kind: Mapped[str] = mapped_column(String(20))
    state: Mapped[str] = mapped_column(String(12), default="waiting")
    words: Mapped[str] = mapped_column(Text, default="")
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    failures: Mapped[list[Any]]
    log: Mapped[str] = mapped_column(Text, default="", server_default="")
    """The whole trace of an error of the program."""
    wish: Mapped[dict[str, Any] | None]
    """What it is asked for beside its kind: a pedestal, as an example."""
    created: Mapped[datetime]
    started: Mapped[datetime | None]
    finished: Mapped[datetime | None]


class LogEntry(Record):
    """An action that changed a result: who, when, what, and how to take it back.

    ``changes`` is a list of {record, id, field, before, after}.
    """

    __tablename__ = "log_entry"
    __table_args__ = (Index("by_campaign", "campaign_id", "id"),)
    campaign_id: Mapped[int] = mapped_column(ForeignKey("campaign.id"))
    at: Mapped[datetime]
    who: Mapped[str] = mapped_column(String(20))
    words: Mapped[str] = mapped_column(Text)
    changes: Mapped[str] = mapped_column(_LONG_TEXT)
    undone: Mapped[bool] = mapped_column(default=False)
    abandoned: Mapped[bool] = mapped_column(default=False)
    """Undone, and something else was done since: it is not offered again."""
    page: Mapped[str] = mapped_column(String(40), default="", server_default="")
    """Whose action it was: a word of the page that did it."""
    revision: Mapped[int] = mapped_column(default=0, server_default="0")
    """The campaign's when it was done, undone or done again last."""
    touched: Mapped[str] = mapped_column(String(200), default="", server_default="")
    """What it changes of what a census is made with, in words; else nothing."""
    measured: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Of such a one, whether it was in force when stars were measured last."""

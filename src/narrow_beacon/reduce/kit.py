"""Constants of cameras and telescope: the plan's, the header's, measured ones, or stated guesses.

Each kit (camera, size, binning) has its own; what the plan says of the camera holds for the kit
that has most exposures.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.correct.photon_transfer import CameraNoise, measure_camera_noise
from narrow_beacon.core.curve.time import Site
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.header import FrameFacts
from narrow_beacon.core.frames.sort import Frame, SortedNight
from narrow_beacon.core.measure.noise import CameraConstants, scintillation
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.context import ChainUse
from narrow_beacon.reduce.names import chain_name

_DEFAULT_LINEAR_LIMIT_ADU = 60000.0
_USUAL_APERTURE_M = 0.2
_USUAL_AIRMASS = 1.5
_REMEDY = "give it in Intake, under Kit"


@dataclass(frozen=True)
class Constants:
    """What every chain's exposures are measured with, where each constant came from, and what is
    doubtful.
    """

    uses: dict[str, ChainUse]
    words: dict[str, str]
    remarks: tuple[Remark, ...]


def constants_of(
    plan: Plan, site: Site | None, night: SortedNight, chains: Mapping[str, ChainReport]
) -> Constants:
    """The constants of every chain of a night with at least one exposure."""
    kits = Counter(frame.kit for frame in night.exposures)
    main = kits.most_common(1)[0][0]
    words: dict[str, str] = {}
    remarks: list[Remark] = []
    uses: dict[str, ChainUse] = {}
    for kit in kits:
        own = _Kit(plan if kit == main else None, plan, site, kit, night, len(kits) > 1)
        exposures = [frame for frame in night.exposures if frame.kit == kit]
        for name in dict.fromkeys(chain_name(frame) for frame in exposures):
            uses[name] = own.use(chains[name])
        words |= own.words
        remarks += own.remarks
    if len(kits) > 1:
        others = ", ".join(kit for kit in kits if kit != main)
        remarks.append(
            Remark(
                "intake",
                f"{len(kits)} kits took these exposures; gain, read noise, linear limit and scale "
                f"as given hold for {main} alone",
                matters=f"{others}: constants are read from headers or measured",
                remedy="each kit is grouped and corrected by its own",
            )
        )
    return Constants(uses, words, tuple(remarks))


class _Kit:
    """The constants of one kit. ``own`` is the plan where it speaks of this kit."""

    def __init__(
        self, own: Plan | None, plan: Plan, site: Site | None, kit: str, night: SortedNight,
        several: bool,
    ) -> None:  # fmt: skip
        self._plan, self._site, self._about = plan, site, kit if several else ""
        exposures = [frame for frame in night.exposures if frame.kit == kit]
        self._exposure_s = float(np.median([frame.exposure_s for frame in exposures]))
        self._facts: FrameFacts = exposures[0].facts
        self._measured = _measured_noise([f for f in night.calibration if f.kit == kit])
        self.words: dict[str, str] = {}
        self.remarks: list[Remark] = []
        self._gain = self._constant(
            "gain_e_per_adu", own.gain_e_per_adu if own else None, self._facts.gain_e_per_adu,
            self._measured.gain_e_per_adu if self._measured else None, 1.0, "e⁻/ADU",
            "uncertainties scale with the root of it: twice the gain, 0.7 times the noise",
        )  # fmt: skip
        self._noise = self._constant(
            "read_noise_e", own.read_noise_e if own else None, self._facts.read_noise_e,
            self._measured.read_noise_e if self._measured else None, 8.0, "e⁻",
            "the uncertainty of faint stars",
        )  # fmt: skip
        self._limit = self._linear_limit(own)
        self._aperture = self._telescope()
        self._scale = own.scale_arcsec_per_px if own else None
        mosaic = self._facts.mosaic
        if mosaic:
            self._remark(
                f"a colour sensor ({mosaic.keyword} = {mosaic.value}): its colours are not taken "
                "apart yet, so that magnitudes mix them",
                "up to tenths of a magnitude between stars of unlike colour",
                "compare with stars of the target's colour, or use a filter",
            )

    def use(self, chain: ChainReport) -> ChainUse:
        """What exposures of a chain are measured with."""
        camera = CameraConstants(
            gain_e_per_adu=self._gain,
            read_noise_e=self._noise,
            dark_e_per_s=chain.dark_adu_per_s * self._gain,
            aperture_m=self._aperture,
            elevation_m=self._site.elevation_m if self._site else 0.0,
            dark_frames=chain.dark_frames,
        )
        return ChainUse(chain.folder, camera, self._limit, self._scale, chain.problem)

    def _remark(self, words: str, matters: str, remedy: str = _REMEDY) -> None:
        self.remarks.append(Remark("intake", words, self._about, matters, remedy))

    def _say(self, name: str, words: str) -> None:
        self.words[f"{name} ({self._about})" if self._about else name] = words

    def _constant(
        self, name: str, plan: float | None, header: object, measured: float | None,
        default: float, unit: str, matters: str,
    ) -> float:  # fmt: skip
        """A camera constant: the plan's, the header's, the measured one, or a stated guess."""
        value = getattr(header, "value", None)
        keyword = getattr(header, "keyword", "")
        sources = (
            (plan, "from the plan" if self._plan.text else "as given"),
            (value, f"from the header ({keyword})"),
            (measured, "measured from pairs of flats and bias frames"),
        )
        for number, words in sources:
            if number is not None:
                self._say(name, f"{number:.3f} {unit} {words}")
                if measured and abs(number / measured - 1.0) > 0.15 and number != measured:
                    self._remark(
                        f"{name} is {number:.3g} {unit} {words}, "
                        f"but the flats and bias frames say {measured:.3g}",
                        matters,
                        "put it right in Intake, under Kit, or empty the field to take what was "
                        "measured",
                    )
                return float(number)
        self._say(name, f"{default:g} {unit} assumed")
        self._remark(f"{name} is unknown; {default:g} {unit} is assumed; set it in [kit]", matters)
        return default

    def _linear_limit(self, own: Plan | None) -> float:
        """The raw level above which a pixel counts as saturated."""
        header = self._facts.linear_limit_adu
        limit = (own.linear_limit_adu if own else None) or (header.value if header else None)
        if limit is None:
            limit = _DEFAULT_LINEAR_LIMIT_ADU
            self._remark(
                f"no [kit] linear_limit_adu: {limit:.0f} ADU is assumed",
                "a star that is brighter than your sensor can tell is measured too faint, unsaid",
            )
        self._say("linear_limit_adu", f"{limit:.0f} ADU")
        return float(limit)

    def _telescope(self) -> float | None:
        header = self._facts.aperture_m
        aperture = self._plan.aperture_m or (header.value if header else None)
        if aperture is None:
            height = self._site.elevation_m if self._site else 0.0
            share = scintillation(
                _USUAL_APERTURE_M, max(self._exposure_s, 0.1), _USUAL_AIRMASS, height
            )
            self._remark(
                "no [kit] aperture_m: scintillation is left out of the uncertainties",
                f"about {1086 * share:.1f} mmag an exposure with {_USUAL_APERTURE_M:g} m at "
                f"airmass {_USUAL_AIRMASS:g}",
            )
        return aperture


def _measured_noise(calibration: list[Frame]) -> CameraNoise | None:
    flats = [frame for frame in calibration if frame.kind == "flat"]
    biases = [frame for frame in calibration if frame.kind == "bias"]
    if flats:
        first = (flats[0].filter, flats[0].night)
        flats = [frame for frame in flats if (frame.filter, frame.night) == first]
    try:
        return measure_camera_noise(flats, biases)
    except (UnreadableFileError, OSError):
        return None  # a frame that went away; its master is remarked on

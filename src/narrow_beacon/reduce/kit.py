"""Constants of camera and telescope: the plan's, the header's, measured ones, or stated guesses."""

from __future__ import annotations

from narrow_beacon.core.correct.photon_transfer import CameraNoise, measure_camera_noise
from narrow_beacon.core.curve.time import Site
from narrow_beacon.core.frames.sort import SortedNight
from narrow_beacon.core.measure.noise import CameraConstants
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.calibrate import ChainReport

_DEFAULT_LINEAR_LIMIT_ADU = 60000.0


class KitConstants:
    """The constants of a night with at least one exposure; ``constants`` says where each came
    from, ``remarks`` what is doubtful.
    """

    def __init__(self, plan: Plan, site: Site | None, night: SortedNight) -> None:
        self._plan = plan
        self._site = site
        self._facts = night.exposures[0].facts
        self._measured = _measured_noise(night)
        self.constants: dict[str, str] = {}
        self.remarks: list[str] = []
        mosaic = self._facts.mosaic
        if mosaic:
            self.remarks.append(
                f"a colour sensor ({mosaic.keyword} = {mosaic.value}): its colours are not taken "
                "apart yet, so that magnitudes mix them"
            )

    def cameras(self, chains: dict[str, ChainReport]) -> dict[str, CameraConstants]:
        """What the noise model needs, for each chain."""
        plan, measured, first = self._plan, self._measured, self._facts
        gain = self._constant(
            "gain_e_per_adu", plan.gain_e_per_adu, first.gain_e_per_adu,
            measured.gain_e_per_adu if measured else None, 1.0, "e⁻/ADU",
        )  # fmt: skip
        noise = self._constant(
            "read_noise_e", plan.read_noise_e, first.read_noise_e,
            measured.read_noise_e if measured else None, 8.0, "e⁻",
        )  # fmt: skip
        aperture = plan.aperture_m or (first.aperture_m.value if first.aperture_m else None)
        if aperture is None:
            self.remarks.append(
                "no [kit] aperture_m: scintillation is left out of the uncertainties"
            )
        return {
            name: CameraConstants(
                gain_e_per_adu=gain,
                read_noise_e=noise,
                dark_e_per_s=chain.dark_adu_per_s * gain,
                aperture_m=aperture,
                elevation_m=self._site.elevation_m if self._site else 0.0,
                dark_frames=chain.dark_frames,
            )
            for name, chain in chains.items()
        }

    def _constant(
        self, name: str, plan: float | None, header: object, measured: float | None,
        default: float, unit: str,
    ) -> float:  # fmt: skip
        """A camera constant: the plan's, the header's, the measured one, or a stated guess."""
        value = getattr(header, "value", None)
        keyword = getattr(header, "keyword", "")
        sources = (
            (plan, "from the plan"),
            (value, f"from the header ({keyword})"),
            (measured, "measured from pairs of flats and bias frames"),
        )
        for number, words in sources:
            if number is not None:
                self.constants[name] = f"{number:.3f} {unit} {words}"
                if measured and abs(number / measured - 1.0) > 0.15 and number != measured:
                    self.remarks.append(
                        f"{name} is {number:.3g} {unit} {words}, "
                        f"but the flats and bias frames say {measured:.3g}"
                    )
                return float(number)
        self.constants[name] = f"{default:g} {unit} assumed"
        self.remarks.append(f"{name} is unknown; {default:g} {unit} is assumed; set it in [kit]")
        return default

    def linear_limit_adu(self) -> float:
        """The raw level above which a pixel counts as saturated."""
        header = self._facts.linear_limit_adu
        limit = self._plan.linear_limit_adu or (header.value if header else None)
        if limit is None:
            self.remarks.append(
                f"no [kit] linear_limit_adu: {_DEFAULT_LINEAR_LIMIT_ADU:.0f} ADU is assumed"
            )
            limit = _DEFAULT_LINEAR_LIMIT_ADU
        self.constants["linear_limit_adu"] = f"{limit:.0f} ADU"
        return float(limit)


def _measured_noise(night: SortedNight) -> CameraNoise | None:
    flats = [frame for frame in night.calibration if frame.kind == "flat"]
    biases = [frame for frame in night.calibration if frame.kind == "bias"]
    if flats:
        first = (flats[0].filter, flats[0].night)
        flats = [frame for frame in flats if (frame.filter, frame.night) == first]
    return measure_camera_noise(flats, biases)

"""Constants of cameras and telescope: the plan's, the header's, measured ones, or stated guesses.

Each kit (camera, size, binning) has its own in each of its settings (gain, offset, read-out mode):
what is said of it by name; what the plan says of the camera without a name holds for the one that
has most exposures.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.correct.clipping import Top, clipping_level, converter_range
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.frames.header import FrameFacts
from narrow_beacon.core.kits import KitWord
from narrow_beacon.core.measure.noise import CameraConstants, scintillation
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.context import ChainUse
from narrow_beacon.reduce.kit_frames import KitShown, setting_of, settings_used
from narrow_beacon.reduce.names import chain_name

_SATURATED_SHARE = 0.98
"""Of the level at which pixels pile up, from where on they count as saturated."""
_ASSUMED_SHARE = 60000.0 / 65535.0
"""Of what a converter can give, up to which a sensor is taken to be linear."""
SKY_AT_STAKE = "faint stars are measured wrong, by tenths of a magnitude where most of it is cut"
"""So a remark says that the sky of exposures is not what it was."""
_UNSURE_STEPS = 0.3
"""Read noise below half a step of the values hardly shows: so far it may be off then."""
_USUAL_APERTURE_M = 0.2
_USUAL_AIRMASS = 1.5
_REMEDY = "give it in Intake, under Kit, or under [kit] in a plan"
_CALLED = {"gain_e_per_adu": "the gain", "read_noise_e": "the read noise"}


@dataclass(frozen=True)
class Constants:
    """What every chain's exposures are measured with, where each constant came from, and what is
    doubtful.
    """

    uses: dict[str, ChainUse]
    words: dict[str, str]
    remarks: tuple[Remark, ...]


def constants_of(
    plan: Plan, site: Site | None, exposures: Sequence[Frame], chains: Mapping[str, ChainReport],
    shown: Mapping[str, KitShown],
) -> Constants:  # fmt: skip
    """The constants of every chain of at least one exposure; ``shown`` is what the frames of each
    kit and setting show.
    """
    cameras = settings_used(exposures)
    main = cameras.most_common(1)[0][0]
    words: dict[str, str] = {}
    remarks: list[Remark] = []
    uses: dict[str, ChainUse] = {}
    for camera in cameras:
        own = _Kit(
            plan, site, [f for f in exposures if setting_of(f) == camera], shown[camera],
            spoken_of=camera == main, about=camera if len(cameras) > 1 else "",
        )  # fmt: skip
        for name in dict.fromkeys(chain_name(frame) for frame in own.exposures):
            uses[name] = own.use(chains[name])
        words |= own.words
        remarks += own.remarks
    if len(cameras) > 1:
        others = "; ".join(camera for camera in cameras if camera != main)
        kits = {frame.kit for frame in exposures}
        what = f"{len(kits)} kits" if len(kits) > 1 else f"{len(cameras)} settings of one camera"
        remarks.append(
            Remark(
                "intake",
                f"{what} took these exposures; gain, read noise, linear limit and scale "
                f"as given hold for {main} alone",
                matters=f"{others}: constants are read from headers or measured",
                remedy="each is grouped and corrected by its own",
            )
        )
    return Constants(uses, words, tuple(remarks))


class _Kit:
    """The constants of one kit in one setting. Each is looked for where it is first asked for; what
    is found is in ``words``, what is doubtful in ``remarks``. ``spoken_of`` says whether the plan's
    constants are meant for it.
    """

    def __init__(
        self, plan: Plan, site: Site | None, exposures: list[Frame], shown: KitShown, *,
        spoken_of: bool, about: str,
    ) -> None:  # fmt: skip
        self._plan, self._site, self._about = plan, site, about
        self.exposures, self._tops = exposures, shown.tops
        self._facts: FrameFacts = exposures[0].facts
        self.words: dict[str, str] = {}
        self.remarks: list[Remark] = []
        unnamed = KitWord(
            plan.gain_e_per_adu, plan.read_noise_e, plan.linear_limit_adu,
            plan.scale_arcsec_per_px,
        )  # fmt: skip
        own = plan.kits.word(*exposures[0].known_as)
        own = own.over(unnamed) if spoken_of else own
        if exposures[0].combined:
            # What was combined has its own, in its header: of many exposures together.
            own = KitWord(scale_arcsec_per_px=own.scale_arcsec_per_px)
        measured = shown.noise
        self._step = min((top.step_adu for top in self._tops), default=1.0)
        if self._step > 1.0:
            self._say("step_adu", f"{self._step:g} ADU, as the frames show")
        self._gain = self._constant(
            "gain_e_per_adu", own.gain_e_per_adu, self._facts.gain_e_per_adu,
            measured.gain_e_per_adu if measured else None, 1.0, "e⁻/ADU",
            "uncertainties scale with the root of it: twice the gain, 0.7 times the noise",
        )  # fmt: skip
        self._noise = self._constant(
            "read_noise_e", own.read_noise_e, self._facts.read_noise_e,
            measured.read_noise_e if measured else None, 8.0, "e⁻",
            "the uncertainty of faint stars", _UNSURE_STEPS * self._step * self._gain,
        )  # fmt: skip
        self._limit = self._linear_limit(own)
        self._aperture = self._telescope()
        self._scale = own.scale_arcsec_per_px
        self._remark_on_colours()
        self._remark_on_cut(shown)

    def _remark_on_colours(self) -> None:
        said = self._facts.mosaic
        frame = self.exposures[0]
        if said and not frame.mosaic:
            self._remark(
                f"a colour sensor ({said.keyword} = {said.value}), binned: its colours are mixed",
                "up to tenths of a magnitude between stars of unlike colour",
                "take exposures without binning, or compare with stars of the target's colour",
            )
        elif said and frame.mosaic != said.value:
            self._remark(
                f"the colour pattern is {frame.mosaic} as given; {said.keyword} says {said.value}",
                "with a wrong one the channels are mixed up: tenths of a magnitude",
                "check it in Intake, under Kit",
            )

    def _remark_on_cut(self, shown: KitShown) -> None:
        """The camera's offset, where it is so low that noise reaches below 0."""
        if shown.cut_sky:
            self._remark(
                f"{shown.cut_sky:.0%} of the pixels of exposures are 0: the camera's offset is too "
                "low, and the lower part of their sky is cut off",
                SKY_AT_STAKE, "raise the offset in the camera's settings; these can't be mended",
            )  # fmt: skip
        elif shown.cut_bias:
            self._remark(
                f"{shown.cut_bias:.0%} of the pixels of bias frames are 0: the camera's offset is "
                "too low to show its read noise",
                "nothing, while the sky of exposures lies above it",
                "raise the offset in the camera's settings",
            )

    def use(self, chain: ChainReport) -> ChainUse:
        """What exposures of a chain are measured with."""
        camera = CameraConstants(
            gain_e_per_adu=self._gain,
            read_noise_e=self._noise,
            dark_e_per_s=chain.dark_adu_per_s * self._gain,
            aperture_m=self._aperture,
            elevation_m=self._site.elevation_m if self._site else 0.0,
            masters_e=chain.noise.offset_e(
                self._gain, self._noise, chain.dark_adu_per_s * self._gain
            ),
            flat_noise=chain.noise.flat(self._gain),
            step_adu=self._step,
        )
        return ChainUse(chain.folder, camera, self._limit, self._scale, chain.problem)

    def _remark(self, words: str, matters: str, remedy: str = _REMEDY) -> None:
        self.remarks.append(Remark("intake", words, self._about, matters, remedy))

    def _say(self, name: str, words: str) -> None:
        self.words[f"{name} ({self._about})" if self._about else name] = words

    def _constant(
        self, name: str, plan: float | None, header: object, measured: float | None,
        default: float, unit: str, matters: str, unsure: float = 0.0,
    ) -> float:  # fmt: skip
        """A camera constant: the plan's, the header's, the measured one, or a stated guess. What
        is measured may be wrong by ``unsure``.
        """
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
                if measured and abs(number - measured) > max(0.15 * measured, unsure):
                    self._remark(
                        f"{_CALLED[name]} is {number:.3g} {unit} {words}, "
                        f"but the flats and bias frames say {measured:.3g}",
                        matters,
                        "put it right in Intake, under Kit, or empty the field to take what was "
                        "measured",
                    )
                return float(number)
        self._say(name, f"{default:g} {unit} assumed")
        self._remark(f"{_CALLED[name]} is not known; {default:g} {unit} is assumed", matters)
        return default

    def _linear_limit(self, own: KitWord) -> float:
        """The raw level above which a pixel counts as saturated: what is said of it, unless the
        frames show that the camera stops before.
        """
        tops = self._tops
        clipped = clipping_level(tops)
        said, source = self._said_limit(own, tops)
        if clipped is not None and (said is None or said > _SATURATED_SHARE * clipped):
            limit = _SATURATED_SHARE * clipped
            if said is None:
                words = f"{limit:.0f} ADU: the frames' pixels pile up at {clipped:.0f} ADU"
                self._remark(
                    f"the linear limit is not known; {words}",
                    "nothing, where the sensor is linear up to there",
                    "give the level up to which it is, in Intake, under Kit",
                )
            else:
                words = f"{limit:.0f} ADU: pixels pile up at {clipped:.0f} ADU already"
                self._remark(
                    f"the linear limit is {said:.0f} ADU {source}, but the frames' pixels pile up "
                    f"at {clipped:.0f} ADU: {limit:.0f} ADU is taken",
                    "stars between the two are saturated",
                    "put it right in Intake, under Kit",
                )
            self._say("linear_limit_adu", words)
            return limit
        if said is not None:
            self._say("linear_limit_adu", f"{said:.0f} ADU {source}")
            return said
        full = converter_range(tops)
        limit = _ASSUMED_SHARE * full
        self._remark(
            "the linear limit is not known, and no frame shows where the camera stops: "
            f"{limit:.0f} ADU is assumed, of the {full:.0f} that its converter seems to give",
            "a star that is brighter than your sensor can tell is measured too faint, unsaid",
        )
        self._say("linear_limit_adu", f"{limit:.0f} ADU assumed")
        return limit

    def _said_limit(self, own: KitWord, tops: Sequence[Top]) -> tuple[float | None, str]:
        """The linear limit as the plan or the header says it."""
        if own.linear_limit_adu:
            return own.linear_limit_adu, "from the plan" if self._plan.text else "as given"
        header = self._facts.linear_limit_adu
        if header is None:
            return None, ""
        # Many programs write the file's own highest value there.
        if header.keyword == "DATAMAX":
            others = {
                f.facts.linear_limit_adu.value for f in self.exposures if f.facts.linear_limit_adu
            }
            if len(others) > 1 or any(abs(t.highest_adu - header.value) <= 1.0 for t in tops):
                return None, ""
        return float(header.value), f"from the header ({header.keyword})"

    def _telescope(self) -> float | None:
        header = self._facts.aperture_m
        aperture = self._plan.aperture_m or (header.value if header else None)
        if aperture is None:
            height = self._site.elevation_m if self._site else 0.0
            exposure_s = float(np.median([frame.exposure_s for frame in self.exposures]))
            share = scintillation(_USUAL_APERTURE_M, max(exposure_s, 0.1), _USUAL_AIRMASS, height)
            self._remark(
                "the telescope's aperture is not known: scintillation is left out of uncertainties",
                f"about {1086 * share:.1f} mmag an exposure with {_USUAL_APERTURE_M:g} m at "
                f"airmass {_USUAL_AIRMASS:g}",
            )
        return aperture

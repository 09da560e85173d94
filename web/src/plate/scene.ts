import { useMemo } from "react";
import {
  useCampaign,
  useCatalogue,
  useCorrect,
  useDefects,
  useExposures,
  useMeasured,
  usePointings,
} from "../api/queries";
import type { Exposure } from "../api/types";
import { beyond, starsTouched } from "../stages/correct/defects";
import { useApp } from "../state";
import { shortName } from "../ui/words";
import { evidenceOf } from "./evidence";
import { rawOf, type Shown } from "./images";
import type { Scene, Stretch } from "./painter";

/** Whether an exposure was combined from others here, so that what was left out is known. */
export const isCombined = (exposure: Exposure) => exposure.name.endsWith("-combined.fits");

/** All that the plate shows now, and the records that it comes from. */
export function useScene(stretch: Stretch, divider: number, hovered: number | null) {
  const s = useApp();
  const { data: campaign } = useCampaign(s.campaign);
  const { data } = useExposures(s.campaign);
  const { data: catalogue } = useCatalogue(s.campaign);
  const found = useMeasured(s.campaign, s.master === null ? s.beam : null);
  // Where the stars of another exposure stood says nothing of this one.
  const measured = found.here ? found.data : undefined;
  const exposures = useMemo(() => data?.exposures ?? [], [data]);
  const exposure = exposures.find((e) => e.id === s.beam) ?? null;
  const reference = exposures.find((e) => e.id === data?.reference) ?? null;
  const { data: correct } = useCorrect(s.master === null ? null : s.campaign);
  const master = correct?.masters.find((m) => m.id === s.master);
  // One that was built anew under another number is let go of.
  const masterId = correct && !master ? null : s.master;
  const beside = correct?.masters.find((m) => m.id === s.beside && m.id !== s.master);
  const { data: list } = usePointings(s.campaign);
  const { data: defects } = useDefects(s.hot === null ? null : s.campaign, s.beam);
  const band = exposure?.filter ?? campaign?.filters[0] ?? "";

  const scene = useMemo<Scene>(() => {
    const off = s.off.join(",");
    const single = masterId !== null && master?.frames.find((f) => f.id === s.frame);
    const shown: Shown | null = single
      ? {
          kind: "files",
          id: single.id,
          off: s.ratio ? `over${masterId}` : "",
          version: `${single.id} ${master?.version}`,
        }
      : masterId !== null
        ? s.ratio && beside
          ? {
              kind: "masters",
              id: masterId,
              off: `over${beside.id}`,
              version: `${master?.version ?? ""} ${beside.version}`,
            }
          : { kind: "masters", id: masterId, off: "", version: master?.version ?? "" }
        : s.beam !== null
          ? {
              kind: "files",
              id: s.beam,
              off: s.residual && s.hot !== null ? `residual${s.hot}` : off,
              version: exposure?.version ?? "",
            }
          : null;
    const first = exposures.find((e) => e.filter === exposure?.filter && !e.trouble) ?? null;
    let compare: Shown | null = null;
    let names: Scene["names"] = ["", ""];
    if (masterId !== null) {
      const name = single ? shortName(single.name) : (master?.label ?? "master");
      names = single
        ? [s.ratio ? `${name} over ${master?.label}` : name, ""]
        : s.ratio && beside
          ? [`${master?.label} over ${beside.label}`, ""]
          : [name, beside?.label ?? ""];
      if (beside && !s.ratio && !single) compare = { kind: "masters", id: beside.id, off: "", version: beside.version };
    } else if (s.split === "raw" && shown) {
      names = ["corrected", "raw"];
      compare = rawOf(shown);
    } else if (s.split === "rejected" && shown && exposure && isCombined(exposure)) {
      names = ["combined", "left out of it"];
      compare = { ...shown, off: "rejected" };
    } else if (s.split === "first" && first) {
      names = ["this one", "first"];
      compare = { kind: "files", id: first.id, off, version: first.version };
    }
    return {
      shown,
      exposure: masterId === null ? exposure : null,
      compare,
      compareExposure: masterId !== null ? null : s.split === "first" ? first : exposure,
      rawHeld: s.rawHeld,
      reference,
      northUp: s.northUp,
      look: s.look,
      stretch,
      names,
      divider,
      touch:
        s.grid && campaign?.target.ra_deg != null && campaign.target.dec_deg != null
          ? { ra: campaign.target.ra_deg, dec: campaign.target.dec_deg }
          : null,
      overlay: {
        catalogue,
        cast: campaign?.cast,
        measured: measured && s.ring ? { ...measured, annulus_px: s.ring } : measured,
        band,
        star: s.star,
        hovered,
        residuals: s.stage === "place" && s.overlay,
        stars: s.overlay && (s.stage === "place" || s.stage === "cast"),
        defects:
          defects && s.hot !== null
            ? {
                x: defects.x_px,
                y: defects.y_px,
                count: s.residual ? 0 : beyond(defects, s.hot),
                stars: starsTouched(defects, s.hot),
                radius: defects.radius_px,
              }
            : null,
        evidence: s.stage === "vet" && s.overlay ? evidenceOf(exposure, data?.parts ?? 4) : null,
        pointed:
          masterId === null && (s.stage === "vet" || s.stage === "place")
            ? (list?.pointings ?? [])
                .filter((star) => star.file_id === s.beam)
                .map((star) => ({ x: star.x_px, y: star.y_px, radius: star.radius_px }))
            : [],
        marked: s.marked,
      },
    };
  }, [
    s.off, s.ratio, s.hot, s.residual, s.frame, s.marked, s.ring, defects, masterId, s.beam, s.split, s.rawHeld, s.northUp, s.look, s.star, s.stage, s.overlay, s.grid,
    exposures, exposure, master, beside, reference, catalogue, campaign, measured, band, stretch, divider, hovered, data, list,
  ]); // prettier-ignore
  const unit =
    s.frame !== null && !s.ratio
      ? "ADU"
      : masterId !== null && master?.kind === "flat"
        ? ""
        : "ADU";
  return { scene, unit, exposure, exposures, campaign, catalogue, measured };
}

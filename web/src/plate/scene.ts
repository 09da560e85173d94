import { useMemo } from "react";
import { useCampaign, useCatalogue, useCorrect, useExposures, useMeasured } from "../api/queries";
import { useApp } from "../state";
import { rawOf, type Shown } from "./images";
import type { Scene, Stretch } from "./painter";

/** All that the plate shows now, and the records that it comes from. */
export function useScene(stretch: Stretch, divider: number, hovered: number | null) {
  const s = useApp();
  const { data: campaign } = useCampaign(s.campaign);
  const { data } = useExposures(s.campaign);
  const { data: catalogue } = useCatalogue(s.campaign);
  const { data: measured } = useMeasured(s.campaign, s.master === null ? s.beam : null);
  const exposures = useMemo(() => data?.exposures ?? [], [data]);
  const exposure = exposures.find((e) => e.id === s.beam) ?? null;
  const reference = exposures.find((e) => e.id === data?.reference) ?? null;
  const { data: correct } = useCorrect(s.master === null ? null : s.campaign);
  const master = correct?.masters.find((m) => m.id === s.master);
  const band = exposure?.filter ?? campaign?.filters[0] ?? "";

  const scene = useMemo<Scene>(() => {
    const off = s.off.join(",");
    const shown: Shown | null =
      s.master !== null
        ? { kind: "masters", id: s.master, off: "", version: master?.version ?? "" }
        : s.beam !== null
          ? { kind: "files", id: s.beam, off, version: exposure?.version ?? "" }
          : null;
    const first = exposures.find((e) => e.filter === exposure?.filter && !e.trouble) ?? null;
    const compare: Shown | null =
      s.split === "raw" && shown?.kind === "files"
        ? rawOf(shown)
        : s.split === "first" && first
          ? { kind: "files", id: first.id, off, version: first.version }
          : null;
    return {
      shown,
      exposure: s.master === null ? exposure : null,
      compare,
      compareExposure: s.split === "first" ? first : exposure,
      rawHeld: s.rawHeld,
      reference,
      northUp: s.northUp,
      look: s.look,
      stretch,
      split: compare !== null,
      divider,
      overlay: {
        catalogue,
        cast: campaign?.cast,
        measured,
        band,
        star: s.star,
        hovered,
        residuals: s.stage === "place" && s.overlay,
        stars: s.overlay && (s.stage === "place" || s.stage === "cast"),
      },
    };
  }, [
    s.off, s.master, s.beam, s.split, s.rawHeld, s.northUp, s.look, s.star, s.stage, s.overlay,
    exposures, exposure, master, reference, catalogue, campaign, measured, band, stretch, divider, hovered,
  ]); // prettier-ignore
  return { scene, exposure, exposures, campaign, catalogue, measured };
}

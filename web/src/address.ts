import { useEffect } from "react";
import { useAppState } from "./api/queries";
import { STAGES, useApp, type StageKey } from "./state";

/** What the address of the page names, so that reloading comes back to it. */
export interface Place {
  campaign: number;
  stage?: StageKey;
  beam: number | null;
}

/** "#/3/vet/41" as campaign, stage and exposure; null where it names no campaign. */
export function readAddress(hash: string): Place | null {
  const match = /^#\/(\d+)(?:\/(\w+))?(?:\/(\d+))?/.exec(hash);
  if (!match) return null;
  const stage = STAGES.find((name) => name === match[2]);
  const place: Place = { campaign: Number(match[1]), beam: match[3] ? Number(match[3]) : null };
  return stage ? { ...place, stage } : place;
}

export function writeAddress(campaign: number, stage: StageKey, beam: number | null): string {
  return `#/${campaign}/${stage}${beam === null ? "" : `/${beam}`}`;
}

/** Address and state follow each other. What stands in the address and was not read yet wins. */
export function useAddress(): void {
  const { data } = useAppState();
  const campaign = useApp((s) => s.campaign);
  useEffect(follow, []);
  useEffect(() => {
    if (!data) return;
    const known = data.campaigns.some((c) => c.id === campaign);
    if (!known && data.campaigns[0]) useApp.setState({ campaign: data.campaigns[0].id });
    if (data.progress) useApp.setState({ progress: data.progress });
  }, [data, campaign]);
}

/** Starts following; returns what ends it. */
export function follow(): () => void {
  let seen = "";
  const read = () => {
    seen = location.hash;
    const place = readAddress(seen);
    // In one step: half a place must not be written back between two.
    if (place) useApp.setState({ ...place });
  };
  const write = () => {
    const { campaign, stage, beam } = useApp.getState();
    if (campaign === null) return;
    if (location.hash !== seen) return read();
    seen = writeAddress(campaign, stage, beam);
    history.replaceState(null, "", seen);
  };
  read();
  write();
  window.addEventListener("hashchange", read);
  const stop = useApp.subscribe((now, before) => {
    const moved = now.beam !== before.beam || now.stage !== before.stage;
    if (moved || now.campaign !== before.campaign) write();
  });
  return () => {
    window.removeEventListener("hashchange", read);
    stop();
  };
}

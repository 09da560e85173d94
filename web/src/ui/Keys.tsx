import { useEffect } from "react";
import { giveRole, redo, setAside, undo } from "../api/actions";
import { useCampaign, useExposures } from "../api/queries";
import { STAGES, useApp } from "../state";

export const KEYS: [string, string][] = [
  ["← →", "the exposure before, the next"],
  ["Shift + ← →", "to the next exposure with a remark"],
  ["Home End", "the first exposure, the last"],
  ["Space", "play, stop"],
  ["X", "set aside, or restore; also for a selected stretch"],
  ["Ctrl Z", "undo; with Shift, again"],
  ["L", "the log: what was done, and long work"],
  ["S", "the shelf: masters of all nights"],
  ["O", "the origin of the point: file, masters, solution, stars"],
  ["1 … 8", "the stages"],
  ["F", "all of the image"],
  ["N", "north up, or as taken"],
  ["C held", "the raw exposure"],
  ["T M K", "chosen star: target, comparison, check star"],
  ["V", "one filter only, or all"],
  ["B", "fold the bench"],
  ["Esc", "let go of star and selection"],
  ["?", "this list"],
];

const FRAME_MS = 140;

function typing(event: KeyboardEvent): boolean {
  const at = event.target as HTMLElement;
  return (
    at.isContentEditable ||
    ["TEXTAREA", "SELECT"].includes(at.tagName) ||
    (at.tagName === "INPUT" && (at as HTMLInputElement).type !== "checkbox")
  );
}

/** The keyboard of every screen. */
export function useKeys(): void {
  const campaignId = useApp((s) => s.campaign);
  const playing = useApp((s) => s.playing);
  const { data: campaign } = useCampaign(campaignId);
  const { data } = useExposures(campaignId);

  useEffect(() => {
    const exposures = data?.exposures ?? [];

    function step(by: number, remarked = false): void {
      const { beam, filter, set } = useApp.getState();
      const lane = exposures.filter(
        (e) =>
          (!filter || e.filter === filter) && (!remarked || e.trouble || e.aside_by || e.proposal),
      );
      const now = exposures.find((e) => e.id === beam);
      const at = lane.findIndex((e) => e.id === beam);
      let next: number;
      if (at >= 0) next = at + by;
      else {
        const after = lane.findIndex((e) => e.jd_utc > (now?.jd_utc ?? 0));
        next = by > 0 ? after : (after < 0 ? lane.length : after) - 1;
      }
      const found = lane[Math.min(Math.max(next, 0), lane.length - 1)];
      if (found) set({ beam: found.id, master: null });
    }

    function down(event: KeyboardEvent): void {
      if (typing(event)) return;
      const s = useApp.getState();
      const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
      if (event.ctrlKey || event.metaKey) {
        if (key !== "z") return;
        event.preventDefault();
        void (event.shiftKey ? redo() : undo());
        return;
      }
      const chosen = s.selection.length > 1 ? s.selection : s.beam !== null ? [s.beam] : [];
      const first = exposures.find((e) => e.id === chosen[0]);
      if (/^[1-8]$/.test(key)) s.set({ stage: STAGES[Number(key) - 1]!, master: null });
      else if (key === "ArrowRight") step(1, event.shiftKey);
      else if (key === "ArrowLeft") step(-1, event.shiftKey);
      else if (key === "Home" && exposures[0]) s.set({ beam: exposures[0].id });
      else if (key === "End" && exposures.length) s.set({ beam: exposures.at(-1)!.id });
      else if (key === " ") {
        if ((event.target as HTMLElement).tagName === "BUTTON") return;
        s.set({ playing: !s.playing });
      } else if (key === "x" && first) void setAside(chosen, !first.aside_by);
      else if (key === "f") window.dispatchEvent(new Event("beacon-fit"));
      else if (key === "n") s.set({ northUp: !s.northUp });
      else if (key === "b") s.set({ benchFolded: !s.benchFolded });
      else if (key === "c" && !event.repeat) s.set({ rawHeld: true });
      else if (key === "v") {
        const now = exposures.find((e) => e.id === s.beam);
        s.set({ filter: s.filter ? "" : (now?.filter ?? "") });
      } else if (key === "t" && s.star !== null) void giveRole(campaign, s.star, "target");
      else if (key === "m" && s.star !== null) void giveRole(campaign, s.star, "comparison");
      else if (key === "k" && s.star !== null) void giveRole(campaign, s.star, "check");
      else if (key === "Escape") s.set({ selection: [], star: null, playing: false });
      else if (key === "?") s.set({ sheet: "keys" });
      else if (key === "l") s.set({ sheet: "log" });
      else if (key === "s") s.set({ sheet: "shelf" });
      else if (key === "o" && s.beam !== null) s.set({ sheet: "origin" });
      else return;
      event.preventDefault();
    }

    function up(event: KeyboardEvent): void {
      if (event.key.toLowerCase() === "c") useApp.getState().set({ rawHeld: false });
    }

    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    const timer = playing ? setInterval(() => step(1), FRAME_MS) : undefined;
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
      clearInterval(timer);
    };
  }, [data, campaign, playing]);
}

/** All keys in words. */
export function KeyList() {
  return (
    <dl className="overflow-y-auto">
      {KEYS.map(([keys, words]) => (
        <div key={keys} className="flex gap-3 border-b border-line py-1 last:border-0">
          <dt className="num w-28 shrink-0 text-beam">{keys}</dt>
          <dd>{words}</dd>
        </div>
      ))}
    </dl>
  );
}

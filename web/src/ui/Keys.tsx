import { useEffect, useRef } from "react";
import { followToo, giveRole, redo, setAside, undo } from "../api/actions";
import { useCampaign, useExposures } from "../api/queries";
import { OTHER_WORDS, REASONS } from "../stages/vet/reasons";
import { STAGES, useApp } from "../state";
import { playedAfter } from "./playing";

export const KEYS: [string, string][] = [
  ["← →", "the exposure before, the next"],
  ["Shift + ← →", "to the next exposure with a remark"],
  ["Home End", "the first exposure, the last"],
  ["Space", "play, stop"],
  ["X", "set aside and go on, or restore; also for a selected stretch"],
  ["C T F W R O", "while it is asked after X: why"],
  ["G", "the ledger: the same things as a table"],
  ["J", "the film: one star on every exposure"],
  ["Ctrl Z", "undo; with Shift, again"],
  ["L", "the log: what was done, and long work"],
  ["S", "the shelf: masters of all nights"],
  ["O", "the origin of the point: file, masters, solution, stars"],
  ["1 … 8", "the stages"],
  ["F", "all of the image"],
  ["N", "north up, or as taken"],
  ["=", "a pixel of the screen for each of the image"],
  ["I", "the grid of positions, north, a bar of length"],
  ["/", "find a star or a position"],
  ["C held", "the raw exposure"],
  ["T M K", "chosen star: target, comparison, check star"],
  ["Shift + T", "follow the chosen star as another target"],
  ["V", "one filter only, or all"],
  ["B", "fold the bench"],
  ["Esc", "let go of star and selection"],
  ["?", "this list"],
];

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
  const playMs = useApp((s) => s.playMs);
  const back = useRef(false);
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

    /** The next one that is played: of the selected stretch where there is one, and back again. */
    function play(): void {
      const { beam, filter, selection, playBack, set } = useApp.getState();
      const chosen = selection.length > 1 ? new Set(selection) : null;
      const lane = exposures.filter(
        (e) => (!filter || e.filter === filter) && (!chosen || chosen.has(e.id)),
      );
      if (!lane.length) return;
      const at = lane.findIndex((e) => e.id === beam);
      const next = playedAfter(at, lane.length, back.current, playBack);
      back.current = next.back;
      set({ beam: lane[next.at]!.id, master: null });
    }

    function down(event: KeyboardEvent): void {
      if (typing(event)) return;
      const s = useApp.getState();
      const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
      const reason = REASONS.find((r) => r.key === key);
      if (s.asked.length && !event.ctrlKey && (reason || key === OTHER_WORDS)) {
        event.preventDefault();
        if (reason) void setAside(s.asked, true, reason.word);
        if (reason) s.set({ asked: [] });
        else window.dispatchEvent(new Event("beacon-words"));
        return;
      }
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
      } else if (key === "x" && first) {
        const aside = !first.aside_by;
        const proposed = chosen.length === 1 ? first.proposal : "";
        void setAside(chosen, aside, proposed);
        s.set({ asked: aside && !proposed ? chosen : [] });
        if (aside && chosen.length === 1) step(1);
      } else if (key === "g") s.set({ ledger: !s.ledger });
      else if (key === "j") s.set({ film: !s.film });
      else if (key === "f") window.dispatchEvent(new Event("beacon-fit"));
      else if (key === "=") window.dispatchEvent(new Event("beacon-one"));
      else if (key === "i") s.set({ grid: !s.grid });
      else if (key === "/") s.set({ finding: true });
      else if (key === "n") s.set({ northUp: !s.northUp });
      else if (key === "b") s.set({ benchFolded: !s.benchFolded });
      else if (key === "c" && !event.repeat) s.set({ rawHeld: true });
      else if (key === "v") {
        const now = exposures.find((e) => e.id === s.beam);
        s.set({ filter: s.filter ? "" : (now?.filter ?? "") });
      } else if (key === "t" && event.shiftKey && s.star !== null && campaign)
        void followToo(campaign.id, s.star);
      else if (key === "t" && s.star !== null) void giveRole(campaign, s.star, "target");
      else if (key === "m" && s.star !== null) void giveRole(campaign, s.star, "comparison");
      else if (key === "k" && s.star !== null) void giveRole(campaign, s.star, "check");
      else if (key === "Escape") s.set({ selection: [], star: null, playing: false, asked: [] });
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
    const timer = playing ? setInterval(play, playMs) : undefined;
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
      clearInterval(timer);
    };
  }, [data, campaign, playing, playMs]);
}

/** All keys in words. */
export function KeyList() {
  return (
    <dl className="overflow-y-auto" tabIndex={0} aria-label="keys">
      {KEYS.map(([keys, words]) => (
        <div key={keys} className="flex gap-3 border-b border-line py-1 last:border-0">
          <dt className="num w-28 shrink-0 text-beam">{keys}</dt>
          <dd>{words}</dd>
        </div>
      ))}
    </dl>
  );
}

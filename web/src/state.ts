import { create } from "zustand";
import type { Progress } from "./api/types";

export const STAGES = [
  "intake",
  "correct",
  "vet",
  "place",
  "cast",
  "measure",
  "curve",
  "report",
] as const;
export const STAGE_NAMES: Record<StageKey, string> = {
  intake: "Intake",
  correct: "Correct",
  vet: "Vet",
  place: "Place",
  cast: "Cast",
  measure: "Measure",
  curve: "Curve",
  report: "Report",
};
export type StageKey = (typeof STAGES)[number];
export type Look = "night" | "day" | "red";
export type Quality =
  | "fwhm_px"
  | "elongation"
  | "stars"
  | "sky_adu_per_px"
  | "slope"
  | "transparency"
  | "noise"
  | "saturated"
  | "drift_px"
  | "turn_deg"
  | "scale_ppm"
  | "zero_point"
  | "airmass";
export type Marking = "column" | "row" | "box";
export type Split = "none" | "raw" | "first" | "rejected";

export interface Saying {
  words: string;
  tone: "plain" | "trouble";
  at: number;
}

/** What the page shows now; nothing in here is a result. */
interface App {
  campaign: number | null;
  stage: StageKey;
  look: Look;
  beam: number | null;
  star: number | null;
  selection: number[];
  /** How the axis of time is written: times of day, or Julian dates. */
  clock: "ut" | "jd";
  /** What the lines on the rail show, the first in full ink. */
  lines: Quality[];
  /** The table in place of plate or chart. */
  ledger: boolean;
  /** The strip of cut-outs of one star above the rail. */
  film: boolean;
  /** How playing goes on: from one exposure to the next in so many milliseconds, and back again. */
  playMs: number;
  playBack: boolean;
  /** What was just set aside, for as long as a key may say why. */
  asked: number[];
  domain: [number, number] | null;
  filter: string;
  northUp: boolean;
  overlay: boolean;
  /** The grid of positions, the directions and a bar of length over the plate. */
  grid: boolean;
  /** The box that finds stars and positions is open. */
  finding: boolean;
  split: Split;
  off: string[];
  rawHeld: boolean;
  master: number | null;
  /** Another master that is shown beside it. */
  beside: number | null;
  /** The master over that one, rather than beside it. */
  ratio: boolean;
  /** A single frame of the master that is shown in its place, or divided by it. */
  frame: number | null;
  /** The threshold from which pixels are marked on the plate as defects; null: none are. */
  hot: number | null;
  /** Whether the plate shows what a repair by that threshold takes away. */
  residual: boolean;
  /** What pointing at the plate marks as a defect; null: it moves the plate. */
  marking: Marking | null;
  /** The sky ring while an edge of it is drawn, in pixels of the image. */
  ring: [number, number] | null;
  /** What was pointed at: x, y, width and height in pixels of the image, from 0. */
  marked: readonly [number, number, number, number] | null;
  /** Whether a click on the plate measures the star there. */
  pointing: boolean;
  playing: boolean;
  benchFolded: boolean;
  progress: Progress | null;
  away: string;
  saying: Saying | null;
  sheet: SheetKey | null;
  /** The kit that the photon-transfer sheet is about. */
  kit: string;
  set: (values: Partial<App>) => void;
  setProgress: (progress: Progress | null) => void;
  setAway: (words: string) => void;
}

/** What can lie over the page. */
export type SheetKey = "keys" | "log" | "origin" | "shelf" | "transfer" | "catalogues";

function storedLook(): Look {
  const look = globalThis.localStorage?.getItem("look");
  return look === "day" || look === "red" ? look : "night";
}

export const useApp = create<App>()((set) => ({
  campaign: null,
  stage: "intake",
  look: storedLook(),
  beam: null,
  star: null,
  selection: [],
  clock: "ut",
  lines: ["fwhm_px"],
  ledger: false,
  film: false,
  playMs: 200,
  playBack: false,
  asked: [],
  domain: null,
  filter: "",
  northUp: false,
  overlay: true,
  grid: false,
  finding: false,
  split: "none",
  off: [],
  rawHeld: false,
  master: null,
  beside: null,
  ratio: false,
  frame: null,
  hot: null,
  residual: false,
  marking: null,
  ring: null,
  marked: null,
  pointing: false,
  playing: false,
  benchFolded: false,
  progress: null,
  away: "",
  saying: null,
  sheet: null,
  kit: "",
  set: (values) =>
    set((now) =>
      // Nothing chosen stays the same nothing: all that draws what is chosen would draw it again.
      values.selection?.length === 0 && now.selection.length === 0
        ? { ...values, selection: now.selection }
        : values,
    ),
  setProgress: (progress) => set({ progress }),
  setAway: (away) => set({ away }),
}));

/** The look is the document's before anything is drawn in its colours, or drawn anew. */
function wear(look: Look): void {
  if (typeof document === "undefined") return;
  document.documentElement.dataset.look = look;
  globalThis.localStorage?.setItem("look", look);
  // For the page at the door, which is shown before any of this is loaded.
  document.cookie = `narrow_beacon_look=${look}; path=/; max-age=31536000; samesite=strict`;
}
wear(useApp.getState().look);
useApp.subscribe((now, before) => {
  if (now.look !== before.look) wear(now.look);
});

export function say(words: string, tone: Saying["tone"] = "plain"): void {
  useApp.setState({ saying: { words, tone, at: Date.now() } });
}

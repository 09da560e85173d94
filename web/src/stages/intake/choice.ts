import { create } from "zustand";
import type { Stack } from "../../api/types";

type Kept = "questions" | "left out" | "all" | "stack";

interface Choice {
  kept: Kept;
  stack: Stack | null;
  chosen: Set<number>;
  last: number | null;
}

export const useChoice = create<Choice>()(() => ({
  kept: "all",
  stack: null,
  chosen: new Set(),
  last: null,
}));

/** Look at one stack and choose all of it; null: look at all files. */
export function lookAt(stack: Stack | null): void {
  useChoice.setState({ stack, kept: stack ? "stack" : "all", chosen: new Set(stack?.ids ?? []) });
}

/** Kinds of frames as the page names them. */
export const KIND_WORDS: Record<string, string> = {
  exposure: "sky",
  bias: "bias",
  dark: "dark",
  flat: "flat",
  "flat dark": "dark for flats",
};

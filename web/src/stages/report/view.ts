import { create } from "zustand";

/** The report as it goes out; what changed since it went; the layout being written. */
export type View = "preview" | "changes" | "layout";

export const useReportView = create<{
  view: View;
  /** The layout's text on trial, and what it will be called; null: as it is kept. */
  draft: string | null;
  name: string;
}>()(() => ({ view: "preview", draft: null, name: "" }));

/** A page for tests: components in a DOM, with a server that answers from a table and is noted. */
import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, type RenderResult } from "@testing-library/react";
import type { ReactNode } from "react";
import { vi } from "vitest";
import { client } from "../api/queries";
import type { Exposures, Intake } from "../api/types";
import { useApp } from "../state";
import { campaign, catalogue, curve, night } from "./builders";

export interface Asked {
  method: string;
  path: string;
  body: unknown;
}

type Answer = unknown | ((asked: Asked) => unknown);

/** An answer that is a problem of the server. */
export class Refusal {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
  ) {}
}

const BEFORE = useApp.getState();

/** As the server sends them: a column at a time. */
function columnsOf(told: Exposures | Intake): unknown {
  const { rows, ...rest } =
    "files" in told
      ? { rows: told.files, ...told, files: undefined }
      : { rows: told.exposures, ...told, exposures: undefined };
  const names = Object.keys(rows[0] ?? {});
  const columns = names.map((name) => [
    name,
    rows.map((row) => (row as unknown as Record<string, unknown>)[name]),
  ]);
  return { count: rows.length, columns: Object.fromEntries(columns), ...rest };
}

/** Answers by "GET /api/…"; what is not in the table is refused. Returns what was asked. */
export function serve(answers: Record<string, Answer>): Asked[] {
  const asked: Asked[] = [];
  vi.stubGlobal("fetch", (path: string, init: RequestInit = {}) => {
    const method = init.method ?? "GET";
    const body = typeof init.body === "string" ? (JSON.parse(init.body) as unknown) : init.body;
    const one = { method, path, body };
    asked.push(one);
    const rows = path.endsWith("/columns");
    const found = answers[`${method} ${rows ? path.replace("/columns", "") : path}`];
    const told = typeof found === "function" ? (found as (a: Asked) => unknown)(one) : found;
    const value =
      rows && told && !(told instanceof Refusal) ? columnsOf(told as Exposures | Intake) : told;
    if (value === undefined || value instanceof Refusal) {
      const { status, title, detail } = value ?? new Refusal(404, "Not in the table", path);
      return Promise.resolve(new Response(JSON.stringify({ title, detail }), { status }));
    }
    return Promise.resolve(new Response(JSON.stringify(value)));
  });
  return asked;
}

export function show(what: ReactNode): RenderResult {
  return render(<QueryClientProvider client={client}>{what}</QueryClientProvider>);
}

export const HERE = "/api/campaigns/1";
const STATE = { campaigns: [], folders: [], cone_url: "", demo_folder: "", progress: null };

/** The server with a reduced campaign, and what else a test needs of it. */
export function server(more: Record<string, unknown> = {}): Asked[] {
  return serve({
    "GET /api/state": { ...STATE, campaigns: [{ id: 1, name: "Foxglove 7", nights: [] }] },
    [`GET ${HERE}`]: campaign(),
    [`GET ${HERE}/exposures`]: night(6),
    [`GET ${HERE}/stars`]: catalogue(),
    [`GET ${HERE}/curve`]: curve(),
    ...more,
  });
}

export const posted = (asked: Asked[]) => asked.filter((a) => a.method !== "GET");

/** As it was before a test. */
export function tidy(): void {
  cleanup();
  client.clear();
  useApp.setState(BEFORE, true);
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
}

/** A drawing surface that notes what was drawn on it: "fillRect", its arguments, its colours. */
export interface Drawn {
  what: string;
  at: number[];
  fill: string;
  stroke: string;
  alpha: number;
}

export function surface(width = 800, height = 116): [CanvasRenderingContext2D, Drawn[]] {
  const drawn: Drawn[] = [];
  const held = {
    fillStyle: "",
    strokeStyle: "",
    globalAlpha: 1,
    lineWidth: 1,
    font: "",
    textAlign: "",
    textBaseline: "",
    canvas: { clientWidth: width, width, height },
    measureText: (text: string) => ({ width: text.length * 6.6 }),
  };
  const ctx = new Proxy(held, {
    get(target, name: string) {
      if (name in target) return target[name as keyof typeof held];
      return (...values: (number | string)[]) =>
        drawn.push({
          what: typeof values[0] === "string" ? `${name} ${values[0]}` : name,
          at: values.filter((v): v is number => typeof v === "number"),
          fill: target.fillStyle,
          stroke: target.strokeStyle,
          alpha: target.globalAlpha,
        });
    },
    set(target, name: string, value) {
      Object.assign(target, { [name]: value as unknown });
      return true;
    },
  });
  return [ctx as unknown as CanvasRenderingContext2D, drawn];
}

import { withRole, type Role } from "../stages/cast/roles";
import { say, useApp } from "../state";
import { act, client, foresee, hush, of, recast, refresh, toldDrawn } from "./queries";
import { get } from "./client";
import type {
  Campaign,
  Catalogue,
  Curve,
  KitSaid,
  OtherCurveIn,
  PointsSaid,
  ReportingSaid,
  ScaleSaid,
  SeriesOf,
  SeriesSaid,
  Settings,
  SourceChange,
  SourceIn,
  VettingChange,
} from "./types";

/** Measure the star next to a place of an exposure, in pixels from 0. */
export async function pointAt(file: number, at: { x: number; y: number }): Promise<void> {
  await act("POST", `/api/files/${file}/pointings`, at);
  await client.invalidateQueries({ queryKey: of(here(), "pointings") });
}

/** Take a star out of the list; 0 all of them. */
export async function forgetPointed(id: number): Promise<void> {
  await act("DELETE", `/api/campaigns/${here()}/pointings/${id}`);
  await client.invalidateQueries({ queryKey: of(here(), "pointings") });
}

/** Whether it was taken. */
export async function addCatalogue(values: SourceIn): Promise<boolean> {
  const done = await act<Words>("POST", "/api/catalogues", values);
  if (done) say(done.words);
  await client.invalidateQueries({ queryKey: ["catalogues"] });
  return done !== undefined;
}

export async function changeCatalogue(id: number, values: SourceChange) {
  const done = await act<Words>("PATCH", `/api/catalogues/${id}`, values);
  if (done) say(done.words);
  await client.invalidateQueries({ queryKey: ["catalogues"] });
}

export async function removeCatalogue(id: number): Promise<void> {
  const done = await act<Words>("DELETE", `/api/catalogues/${id}`);
  if (done) say(done.words);
  await client.invalidateQueries({ queryKey: ["catalogues"] });
}

interface Words {
  words: string;
}

function here(): number | null {
  return useApp.getState().campaign;
}

async function doHere(method: string, path: string, body?: unknown): Promise<void> {
  const campaign = here();
  if (campaign === null) return;
  const done = await act<Words>(method, `/api/campaigns/${campaign}/${path}`, body);
  if (done?.words) say(done.words);
  refresh(campaign);
}

export function setAside(ids: number[], aside: boolean, reason = ""): Promise<void> {
  const campaign = here();
  const words = reason || "set aside by the observer";
  if (campaign !== null)
    foresee(campaign, ids, {
      aside_by: aside ? "observer" : "",
      aside: aside ? words : "",
      proposal: "",
    });
  return doHere("POST", "aside", { ids, aside, reason });
}
/** Change rules, limits or the reference. */
export async function changeVetting(values: VettingChange): Promise<void> {
  const campaign = here();
  if (campaign === null) return;
  await act("PUT", `/api/campaigns/${campaign}/vetting`, values);
  refresh(campaign);
}
export const acceptProposals = (ids: number[]) => doHere("POST", "proposals", { ids });
/** This tab's own latest action; another's only where it is the one that the button names. */
const meant = (action: Campaign["undo"]) => (action?.elsewhere ? `?entry=${action.id}` : "");
const shown = () => client.getQueryData<Campaign>(of(here(), ""));
export const undo = () => doHere("POST", `undo${meant(shown()?.undo ?? null)}`);
export const redo = () => doHere("POST", `redo${meant(shown()?.redo ?? null)}`);
export const correctFiles = (ids: number[], values: Record<string, string>) =>
  doHere("POST", "corrections", { ids, ...values });
export const pickMaster = (chain: string, step: string, key: string) =>
  doHere("POST", "masters/pick", { chain, step, key });
export const keepDefects = (file: number, threshold: number, marks: number[][]) =>
  doHere("PUT", "defects", { file, threshold, marks });
/** Take the marks of a file over: a table, or an image of the sensor. */
export const takeDefectMap = (file: number, path: string) =>
  doHere("POST", "defects/map", { file, path });
/** Say something of a kit, beside what was said of it before. */
export const sayOfKit = (name: string, said: KitSaid) => doHere("PUT", "kits", { name, said });
export const correctByNames = (ids: number[], pattern: string) =>
  doHere("POST", "corrections/names", { ids, pattern });

/** Let other campaigns take a master from the shelf no more, or again. */
export async function retireMaster(id: number, retired: boolean): Promise<void> {
  const done = await act<Words>("PATCH", `/api/shelf/${id}`, { retired });
  if (done?.words) say(done.words);
  await client.invalidateQueries({ queryKey: ["shelf"] });
}

export const markSeen = (ids: number[], seen = true) =>
  doHere("POST", "remarks/seen", { ids, seen });

/** Change settings of the campaign; whether they were taken. */
export async function saveSettings(values: Partial<Settings>, campaign = here()): Promise<boolean> {
  if (campaign === null) return false;
  const done = await act("PATCH", `/api/campaigns/${campaign}`, values);
  refresh(campaign);
  return done !== null;
}

/** Delete a campaign; raw files and uploads stay. */
export async function deleteCampaign(campaign: number): Promise<boolean> {
  const done = await act<Words>("DELETE", `/api/campaigns/${campaign}`);
  if (!done) return false;
  say(done.words);
  await client.invalidateQueries({ queryKey: ["state"] });
  return true;
}

/** Take ready-made masters over: a file, or all of a folder. */
export async function importMasters(path: string): Promise<void> {
  const done = await act<Words>("POST", "/api/shelf", { path });
  if (done?.words) say(done.words);
  await client.invalidateQueries({ queryKey: ["shelf"] });
}

export async function startJob(
  kind: string,
  wish: Record<string, number | string | number[]> = {},
): Promise<void> {
  const campaign = here();
  if (campaign === null) return;
  await act("POST", `/api/campaigns/${campaign}/jobs`, { kind, ...wish });
  refresh(campaign);
}

export const stopJob = (job: number) => act("DELETE", `/api/jobs/${job}`);

export async function giveRole(
  campaign: Campaign | undefined,
  row: number,
  role: Role,
): Promise<void> {
  if (!campaign) return;
  if (!campaign.cast) {
    if (role === "target") return nameTarget(campaign, row);
    say("Give the part of the target first: click your star and press T.", "trouble");
    return;
  }
  const { target, comparison, checks } = campaign.cast;
  const next = withRole({ target, comparison, checks }, row, role);
  if (next.target === target && role !== "target" && row === target) {
    say("Every curve needs a target: give that part to another star first.", "trouble");
    return;
  }
  await recast(campaign.id, "cast", next);
}

/** Lay a society's sequence over the catalogue, or with an empty file take it off. */
export async function takeSequence(
  campaign: number,
  said: { file: string; chart?: string; columns?: Record<string, string> },
): Promise<boolean> {
  const { file, chart, columns } = said;
  const body = { file, chart: chart ?? "", columns: columns ?? {} };
  const done = await act<Words>("POST", `/api/campaigns/${campaign}/sequence`, body);
  if (!done) return false;
  say(done.words);
  await client.invalidateQueries({ queryKey: ["field", campaign] });
  refresh(campaign);
  return true;
}

/** Follow another star of the field with a cast of its own; the screens turn to it. */
export const followToo = (campaign: number, row: number) =>
  retarget(campaign, "POST", "targets", { row });
export const turnTo = (campaign: number, place: number) =>
  retarget(campaign, "POST", "targets/front", { place });
export const leaveTarget = (campaign: number, place: number) =>
  retarget(campaign, "DELETE", `targets/${place}`);

async function retarget(
  campaign: number,
  method: string,
  path: string,
  body?: unknown,
): Promise<void> {
  const begin = performance.now();
  hush(campaign);
  const curve = await act<Curve>(method, `/api/campaigns/${campaign}/${path}`, body);
  if (!curve) return refresh(campaign);
  client.setQueryData(of(campaign, "curve"), curve);
  toldDrawn(begin);
  // What is large waits until no other target follows.
  refresh(campaign, curve.revision);
}

/** The first target: the program then proposes comparison stars and a check star. */
async function nameTarget(campaign: Campaign, row: number): Promise<void> {
  const stars = await get<Catalogue>(`/api/campaigns/${campaign.id}/stars`);
  const name = stars.name[stars.row.indexOf(row)];
  const done = await act("PATCH", `/api/campaigns/${campaign.id}`, { target_name: name });
  if (!done) return;
  say(`${name} is the target. Comparison stars are being chosen.`);
  await startJob("census");
}

/** Say something of the standard scale. */
export async function changeScale(campaign: number, values: ScaleSaid): Promise<void> {
  await recast(campaign, "transform", values);
}

/** Ask something else of the curves' points. */
export async function sayOfPoints(campaign: number, said: PointsSaid): Promise<void> {
  client.setQueryData(of(campaign, "points"), said);
  await recast(campaign, "points", said, "PUT");
}

/** Keep what the field's stars give with the kit, or keep something no longer. */
export const keepTerm = (filter: string) => doHere("POST", "scale/keep", { filter });
export async function forgetTerm(id: number): Promise<void> {
  const done = await act<Words>("DELETE", `/api/kept/${id}`);
  if (done) say(done.words);
  const campaign = here();
  if (campaign !== null) refresh(campaign);
}

/** Fill a layout's fields, choose which points go out, hold some back. */
export const sayOfReports = (said: ReportingSaid) => doHere("PUT", "reporting", said);

/** Note to whom a report was sent, and what came back. */
export async function markSent(
  report: number,
  said: { recipient: string; note: string },
): Promise<boolean> {
  const done = await act("PATCH", `/api/reports/${report}`, said);
  const campaign = here();
  if (campaign !== null) refresh(campaign);
  return done !== null;
}

/** Keep a layout for all campaigns. */
export async function keepLayout(name: string, text: string): Promise<boolean> {
  const done = await act<Words>("PUT", "/api/layouts", { name, text });
  if (done) say(done.words);
  return done !== null;
}

/** Report in the plain layout again, and delete one's own. */
export async function deleteLayout(name: string): Promise<void> {
  if (!(await saveSettings({ layout: "plain" }))) return;
  const done = await act<Words>("DELETE", `/api/layouts/${encodeURIComponent(name)}`);
  if (done) say(done.words);
  const campaign = here();
  if (campaign !== null) refresh(campaign);
}

/** Keep elements, times from elsewhere or cycles of the target in front. */
export const keepSeries = (values: SeriesSaid) => changeSeries("PUT", "series", values);
/** Fit elements to all times of minimum or maximum. */
export const fitElements = (quadratic: boolean) =>
  changeSeries("POST", "series/fit", { quadratic });

/** Lay a light curve from a file over the target's; whether it was taken. */
export async function layOver(values: OtherCurveIn): Promise<boolean> {
  const campaign = here();
  const done = await act("POST", `/api/campaigns/${campaign}/curves`, values);
  if (done && campaign !== null) refresh(campaign);
  return done !== null;
}
export const takeOff = (place: number) => doHere("DELETE", `curves/${place}`);

async function changeSeries(method: string, path: string, body: unknown): Promise<boolean> {
  const campaign = here();
  if (campaign === null) return false;
  const series = await act<SeriesOf>(method, `/api/campaigns/${campaign}/${path}`, body);
  if (!series) return false;
  client.setQueryData(of(campaign, "series"), series);
  refresh(campaign);
  return true;
}

export async function setRadius(campaign: number, filter: string, step: number): Promise<void> {
  await recast(campaign, "recipe", { steps: { [filter]: step }, automatic: false });
}

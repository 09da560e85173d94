import {
  keepPreviousData,
  notifyManager,
  QueryCache,
  QueryClient,
  useQuery,
} from "@tanstack/react-query";
import { useDeferredValue, useEffect, useState } from "react";
import { get, ProblemError, send } from "./client";
import { exposuresOf, intakeOf } from "./columns";
import type {
  AppState,
  Campaign,
  Candidates,
  Catalogue,
  Colours,
  Correct,
  Curve,
  Defects,
  Exposure,
  Exposures,
  FieldStars,
  Figures,
  FlatVerdict,
  JobList,
  LayoutText,
  LayoutTried,
  Kits,
  Log,
  Look,
  LookOut,
  MeasuredStars,
  NamesRead,
  Options,
  PointedList,
  OriginOf,
  OtherCurves,
  PeriodsAsked,
  PeriodsFound,
  Placement,
  PointsSaid,
  Preview,
  Radii,
  Said,
  ReportPage,
  Scale,
  SeriesOf,
  ShelfPage,
  Sky,
  StarLight,
  StarSources,
  StarOnExposure,
  Survey,
  Transfer,
  Vetting,
} from "./types";
import { say } from "../state";

export const client = new QueryClient({
  // What the observer did wrong is said where it was done; a fault of the program is said aloud.
  queryCache: new QueryCache({
    onError: (error) => {
      if (error instanceof ProblemError && error.status === 500) say(error.message, "trouble");
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 60_000,
      refetchOnWindowFocus: false,
      retry: (count, error) =>
        count < 3 && error instanceof ProblemError && (error.status === 0 || error.status === 503),
    },
  },
});

/** Everything of a campaign starts with this key, so that one change makes all of it stale. */
export const of = (id: number | null, ...rest: unknown[]) => ["campaign", id, ...rest];

function useCampaignQuery<T>(id: number | null, path: string, enabled = true) {
  return useQuery({
    queryKey: of(id, path),
    queryFn: ({ signal }) => get<T>(`/api/campaigns/${id}/${path}`, signal),
    enabled: id !== null && enabled,
    placeholderData: keepPreviousData,
  });
}

export const useAppState = () =>
  useQuery({ queryKey: ["state"], queryFn: () => get<AppState>("/api/state") });
export const useCampaign = (id: number | null) =>
  useQuery({
    queryKey: of(id, ""),
    queryFn: () => get<Campaign>(`/api/campaigns/${id}`),
    enabled: id !== null,
  });
/** What is asked of the curves' points. */
export const usePoints = (id: number | null) => useCampaignQuery<PointsSaid>(id, "points");
/** A table of a campaign's that comes a column at a time. */
const useColumns = <Told, Rows>(id: number | null, name: string, rows: (told: Told) => Rows) =>
  useQuery({
    queryKey: of(id, name),
    queryFn: async ({ signal }) =>
      rows(await get<Told>(`/api/campaigns/${id}/${name}/columns`, signal)),
    enabled: id !== null,
    placeholderData: keepPreviousData,
  });
export const useExposures = (id: number | null) => useColumns(id, "exposures", exposuresOf);
/** Rules and limits of vetting, and the reference exposure. */
export const useVetting = (id: number | null) => useCampaignQuery<Vetting>(id, "vetting");
export const useIntake = (id: number | null) => useColumns(id, "intake", intakeOf);
/** What the headers of some files say in common. */
export const useSaid = (id: number | null, ids: number[]) =>
  useQuery({
    queryKey: of(id, "said", ids.join()),
    queryFn: () => send<Said>("POST", `/api/campaigns/${id}/said`, { ids }),
    enabled: id !== null && ids.length > 0,
    placeholderData: keepPreviousData,
  });
export const useCatalogues = () =>
  useQuery({
    queryKey: ["catalogues"],
    queryFn: () => get<StarSources>("/api/catalogues"),
    placeholderData: keepPreviousData,
  });
export const usePointings = (id: number | null) => useCampaignQuery<PointedList>(id, "pointings");
/** What the columns of a table mean, with what the observer says of them. */
export const useLook = (look: Look) =>
  useQuery({
    queryKey: ["look", look],
    queryFn: () => send<LookOut>("POST", "/api/catalogues/look", look),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
/** What the files' names say by a pattern of the observer's. */
export const useNames = (id: number | null, pattern: string) =>
  useQuery({
    queryKey: of(id, "names", pattern),
    queryFn: () =>
      get<NamesRead>(`/api/campaigns/${id}/names?pattern=${encodeURIComponent(pattern)}`),
    enabled: id !== null && pattern.includes("}"),
    retry: false,
  });
/** What words that were typed would make of files; asked for once the typing pauses. */
export function usePreview(id: number | null, ids: number[], values: Record<string, string>) {
  const asked = useDeferredValue(JSON.stringify({ ids, ...values }));
  return useQuery({
    queryKey: of(id, "preview", asked),
    queryFn: () =>
      send<Preview>("POST", `/api/campaigns/${id}/corrections/preview`, JSON.parse(asked)),
    enabled: id !== null && Object.keys(values).length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
}
/** The masters of all nights; asked for anew whenever it is opened. */
export const useShelf = () =>
  useQuery({ queryKey: ["shelf"], queryFn: () => get<ShelfPage>("/api/shelf"), staleTime: 0 });
/** What one flat over another shows. */
export const useOver = (master: number, other: number) =>
  useQuery({
    queryKey: ["over", master, other],
    queryFn: () => get<FlatVerdict>(`/api/masters/${master}/over/${other}`),
    staleTime: Infinity,
    retry: false,
  });
/** What a single flat over its master shows. */
export const useSingleOver = (file: number, master: number) =>
  useQuery({
    queryKey: ["single over", file, master],
    queryFn: () => get<FlatVerdict>(`/api/files/${file}/over/${master}`),
    staleTime: Infinity,
    retry: false,
  });
/** The kits of a campaign: what is said of them, and what is in force. */
export const useKits = (id: number | null) => useCampaignQuery<Kits>(id, "kits");
/** The photon-transfer picture of a kit. */
export const useTransfer = (id: number | null, name: string) =>
  useQuery({
    queryKey: of(id, "transfer", name),
    queryFn: () =>
      get<Transfer>(`/api/campaigns/${id}/kits/transfer?name=${encodeURIComponent(name)}`),
    enabled: id !== null && name !== "",
    retry: false,
  });
/** The pixels of an exposure's dark that depart from their neighbours, and the rule on them. */
export const useDefects = (id: number | null, file: number | null) =>
  useQuery({
    queryKey: of(id, "defects", file),
    queryFn: () => get<Defects>(`/api/campaigns/${id}/defects/${file}`),
    enabled: id !== null && file !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });
/** What correction does to an exposure, in numbers. */
export const useFigures = (id: number | null, file: number | null) =>
  useQuery({
    queryKey: of(id, "figures", file),
    queryFn: () => get<Figures>(`/api/files/${file}/figures`),
    enabled: id !== null && file !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });
/** The masters that the steps of a chain could use. */
export const useOptions = (id: number | null, chain: string) =>
  useCampaignQuery<Options>(id, `correct/options?chain=${encodeURIComponent(chain)}`);
export const useCorrect = (id: number | null) => useCampaignQuery<Correct>(id, "correct");
/** Thousands of points: taken as they come, since comparing them costs more than drawing them. */
export const useCurve = (id: number | null) =>
  useQuery({
    queryKey: of(id, "curve"),
    queryFn: () => get<Curve>(`/api/campaigns/${id}/curve`),
    enabled: id !== null,
    placeholderData: keepPreviousData,
    structuralSharing: false,
  });
export const useLog = (id: number | null) => useCampaignQuery<Log>(id, "log");
export const useJobs = (id: number | null) => useCampaignQuery<JobList>(id, "jobs");
export const useCandidates = (id: number | null, filter: string) =>
  useCampaignQuery<Candidates>(id, `candidates?filter=${encodeURIComponent(filter)}`);
export const useRadii = (id: number | null, filter: string, enabled: boolean) =>
  useCampaignQuery<Radii>(id, `radii?filter=${encodeURIComponent(filter)}`, enabled);
/** Every star of the field in a filter. */
export const useField = (id: number | null, filter: string) =>
  useCampaignQuery<FieldStars>(id, `field?filter=${encodeURIComponent(filter)}`);
/** One star on all exposures. */
export const useLight = (id: number | null, row: number | null) =>
  useCampaignQuery<StarLight>(id, `light?row=${row}`, row !== null);
/** How a filter's magnitudes depend on colour and air. */
export const useScale = (id: number | null, filter: string, enabled: boolean) =>
  useCampaignQuery<Scale>(id, `scale?filter=${encodeURIComponent(filter)}`, enabled);
/** The field's stars by colour and magnitude. */
export const useColours = (id: number | null, enabled: boolean) =>
  useCampaignQuery<Colours>(id, "colours", enabled);
/** The periods that the target's curve may have; the one before is shown while it is searched. */
export function usePeriods(id: number | null, asked: PeriodsAsked, enabled: boolean) {
  const key = useDeferredValue(JSON.stringify(asked));
  return useQuery({
    queryKey: of(id, "periods", key),
    queryFn: () => send<PeriodsFound>("POST", `/api/campaigns/${id}/periods`, JSON.parse(key)),
    enabled: id !== null && enabled,
    placeholderData: keepPreviousData,
    structuralSharing: false,
    retry: false,
  });
}
/** Times of minimum and maximum, elements, and O − C. */
export const useSeries = (id: number | null, enabled: boolean) =>
  useCampaignQuery<SeriesOf>(id, "series", enabled);
/** Light curves from elsewhere that are laid over the target's. */
export const useOtherCurves = (id: number | null) => useCampaignQuery<OtherCurves>(id, "curves");
/** Which other stars of the field vary. */
export const useSurvey = (id: number | null, enabled: boolean) =>
  useCampaignQuery<Survey>(id, "survey", enabled);
export const useReport = (id: number | null, enabled: boolean) =>
  useCampaignQuery<ReportPage>(id, "report", enabled);

/** The text of the layout in use. */
export const useLayoutText = (id: number | null) => useCampaignQuery<LayoutText>(id, "layout");
/** What the report would be in a layout that is being written. */
export function useLayoutTried(id: number | null, text: string) {
  const rested = useRested(text);
  return useQuery({
    queryKey: of(id, "tried", rested),
    queryFn: () => send<LayoutTried>("POST", `/api/campaigns/${id}/layout/try`, { text: rested }),
    enabled: id !== null && rested !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** Stars and sky depend on little: other changes do not make them stale. */
export function useCatalogue(id: number | null) {
  const { data } = useCampaign(id);
  const { catalogue, target, nights } = data ?? {};
  const field = [catalogue?.id, data?.sequence?.file, target?.ra_deg, target?.dec_deg];
  return useQuery({
    // Stars are told where they are at the time of the first night.
    queryKey: ["field", id, ...field, nights?.[0]?.evening],
    queryFn: () => get<Catalogue>(`/api/campaigns/${id}/stars`),
    enabled: id !== null && catalogue != null,
    staleTime: Infinity,
  });
}

export function useSky(id: number | null) {
  const { data } = useCampaign(id);
  const { data: exposures } = useExposures(id);
  const span = [exposures?.exposures.at(0)?.jd_utc, exposures?.exposures.at(-1)?.jd_utc];
  return useQuery({
    queryKey: ["sky", id, data?.site, data?.target.ra_deg, data?.target.dec_deg, ...span],
    queryFn: () => get<Sky>(`/api/campaigns/${id}/sky`),
    enabled: id !== null && data?.site != null && span[0] !== undefined,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  });
}

const REST_MS = 120;

/** A value once it has rested: what hangs on it is not asked for while the beam runs. */
function useRested<T>(value: T): T {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setRested(value), REST_MS);
    return () => clearTimeout(timer);
  }, [value]);
  return rested;
}

/** What was measured on an exposure; while the beam runs what was measured where it rested. */
export function useMeasured(campaign: number | null, file: number | null) {
  const rested = useRested(file);
  const query = useQuery({
    queryKey: of(campaign, "measured", rested),
    queryFn: () => get<MeasuredStars>(`/api/files/${rested}/stars`),
    enabled: rested !== null,
    placeholderData: keepPreviousData,
  });
  return { ...query, here: rested === file && !query.isPlaceholderData };
}
export const usePlacement = (campaign: number | null, file: number | null) =>
  useQuery({
    queryKey: of(campaign, "placement", file),
    queryFn: () => get<Placement>(`/api/files/${file}/placement`),
    enabled: file !== null,
  });
export const useOrigin = (campaign: number | null, file: number | null) =>
  useQuery({
    queryKey: of(campaign, "origin", file),
    queryFn: () => get<OriginOf>(`/api/files/${file}/origin`),
    enabled: file !== null,
  });
export function useStar(campaign: number | null, row: number | null, beam: number | null) {
  const file = useRested(beam);
  return useQuery({
    queryKey: of(campaign, "star", row, file),
    queryFn: () => get<StarOnExposure>(`/api/campaigns/${campaign}/star?row=${row}&file=${file}`),
    enabled: campaign !== null && row !== null && file !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });
}

const OVERTAKEN = 412;
let turn: Promise<unknown> = Promise.resolve();

/**
 * Ask the server for something to be done, one thing after the other, so that an undo never
 * overtakes what it undoes. What went wrong is said on the page.
 */
export function act<T>(method: string, path: string, body?: unknown): Promise<T | null> {
  const campaign = Number(/^\/api\/campaigns\/(\d+)/.exec(path)?.[1] ?? NaN);
  const seen = client.getQueryData<Campaign>(of(campaign, ""))?.revision;
  const mine = turn.then(() =>
    send<T>(method, path, body, seen).catch((error: unknown) => {
      say(error instanceof Error ? error.message : String(error), "trouble");
      if (error instanceof ProblemError && error.status === OVERTAKEN) refresh(campaign);
      return null;
    }),
  );
  turn = mine;
  return mine;
}

/** A cast or a radius: the answer is the new curve, shown at once. */
export async function recast(
  campaign: number,
  path: string,
  body: unknown,
  method = "POST",
): Promise<void> {
  const begin = performance.now();
  hush(campaign);
  const curve = await act<Curve>(method, `/api/campaigns/${campaign}/${path}`, body);
  if (!curve) return refresh(campaign);
  notifyManager.batch(() => {
    client.setQueryData<Campaign>(of(campaign, ""), (old) =>
      old ? { ...old, cast: curve.cast, recipe: curve.recipe } : old,
    );
    client.setQueryData(of(campaign, "curve"), curve);
  });
  toldDrawn(begin);
}

/** Note how long it took until the curve was drawn: a task after the frame it has been. */
export function toldDrawn(begin: number): void {
  requestAnimationFrame(() =>
    setTimeout(() =>
      performance.measure("curve-redrawn", { start: begin, end: performance.now() }),
    ),
  );
}

/**
 * Fetch anew what is shown of a campaign; but not a curve that shows this revision already, as the
 * answer to a changed role does.
 */
export function refresh(campaign: number, revision = Infinity): void {
  const curve = client.getQueryData<Curve>(of(campaign, "curve"));
  const known = curve !== undefined && curve.revision >= revision;
  clearTimeout(later.get(campaign));
  void client.invalidateQueries({
    queryKey: ["campaign", campaign],
    predicate: ({ queryKey }) => !known || AT_ONCE.has(String(queryKey[2])),
  });
  void client.invalidateQueries({ queryKey: ["state"] });
  if (!known) return;
  const rest = () =>
    client.invalidateQueries({
      queryKey: ["campaign", campaign],
      predicate: ({ queryKey }) => !AT_ONCE.has(String(queryKey[2])) && queryKey[2] !== "curve",
    });
  later.set(
    campaign,
    setTimeout(() => void rest(), RESTED_MS),
  );
}

/** What is small and shows at once what was done; after a changed role or radius the rest waits
 * until no other follows, so that it does not slow that one. */
const AT_ONCE = new Set(["", "log"]);

/** Before a change whose answer is the new curve: what is fetched anew in the background would slow
 * it, and is stale with it; it is fetched once no other change follows. */
export function hush(campaign: number): void {
  clearTimeout(later.get(campaign));
  void client.cancelQueries({
    queryKey: ["campaign", campaign],
    predicate: ({ queryKey, state }) => state.data !== undefined && queryKey[2] !== "",
  });
}

const RESTED_MS = 1500;
const later = new Map<number, ReturnType<typeof setTimeout>>();

/** Show a change of exposures before the server has answered. */
export function foresee(campaign: number, ids: number[], values: Partial<Exposure>): void {
  const chosen = new Set(ids);
  client.setQueryData<Exposures>(of(campaign, "exposures"), (old) =>
    old
      ? {
          ...old,
          exposures: old.exposures.map((e) => (chosen.has(e.id) ? { ...e, ...values } : e)),
        }
      : old,
  );
}

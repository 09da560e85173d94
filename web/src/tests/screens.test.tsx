// @vitest-environment jsdom
import { act, fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Candidates, Chain, Correct, Intake, Master, ReportPage } from "../api/types";
import { RailFacts } from "../rail/RailFacts";
import { timelineOf } from "../rail/timeline";
import { CastBench } from "../stages/Cast";
import { CorrectBench } from "../stages/Correct";
import { CurveBench } from "../stages/Curve";
import { IntakeBench, IntakeMain, useChoice } from "../stages/Intake";
import { PlaceBench } from "../stages/Place";
import { ReportBench, ReportMain } from "../stages/Report";
import { VetBench } from "../stages/Vet";
import { useShown } from "../stages/curve/view";
import { useApp } from "../state";
import { Bar } from "../ui/Bar";
import { Guard } from "../ui/Guard";
import { History } from "../ui/History";
import { NewCampaign } from "../ui/NewCampaign";
import { Saying } from "../ui/Saying";
import { StageList } from "../ui/StageList";
import { campaign, catalogue, curve, exposure, file, night } from "./builders";
import { Refusal, serve, show, tidy, type Asked } from "./page";

const HERE = "/api/campaigns/1";
const STATE = { campaigns: [], folders: [], cone_url: "", demo_folder: "", progress: null };

/** The server with a reduced campaign, and what else a test needs of it. */
function server(more: Record<string, unknown> = {}): Asked[] {
  return serve({
    "GET /api/state": { ...STATE, campaigns: [{ id: 1, name: "Foxglove 7", nights: [] }] },
    [`GET ${HERE}`]: campaign(),
    [`GET ${HERE}/exposures`]: night(6),
    [`GET ${HERE}/stars`]: catalogue(),
    [`GET ${HERE}/curve`]: curve(),
    ...more,
  });
}

const posted = (asked: Asked[]) => asked.filter((a) => a.method !== "GET");

beforeEach(() => useApp.setState({ campaign: 1, beam: 2 }));
afterEach(() => {
  tidy();
  useChoice.setState({ kept: "all", stack: null, chosen: new Set(), last: null });
  useShown.setState({ fold: false, period: "", raw: false });
});

describe("the list of stages", () => {
  it("tells how each stands, in words too, and opens any of them", async () => {
    server({
      [`GET ${HERE}`]: campaign(
        {},
        {
          vet: { state: "look", count: 3, words: "3 proposed to set aside" },
          curve: { state: "waiting", words: "waits for Cast" },
          measure: { state: "working" },
        },
      ),
    });
    show(<StageList />);
    const vet = await screen.findByTitle("something to look at: 3 proposed to set aside (3)");
    expect(vet.textContent).toBe("Vet3");
    expect(screen.getByTitle("at work: fine (6)")).toBeTruthy();
    const curveStage = screen.getByTitle("waiting: waits for Cast (7)");
    fireEvent.click(curveStage);
    expect(useApp.getState().stage).toBe("curve");
    expect(curveStage.getAttribute("aria-current")).toBe("step");
  });
});

describe("the bar", () => {
  it("shows progress with rate and time left, and stops the job", async () => {
    const asked = server({ "DELETE /api/jobs/9": {} });
    show(<Bar />);
    expect(screen.queryByTestId("progress")).toBeNull();
    useApp.setState({
      progress: {
        job: 9, campaign: 1, kind: "census", words: "measuring",
        done: 84, total: 212, rate: 3.21, left_s: 41, failures: [],
      },
    }); // prettier-ignore
    const progress = await screen.findByTestId("progress");
    expect(progress.textContent).toContain("measuring 84/212 · 0:41 · 3.2 a second");
    fireEvent.click(within(progress).getByText("Stop"));
    await vi.waitFor(() => expect(posted(asked)[0]).toMatchObject({ path: "/api/jobs/9" }));
  });

  it("offers to undo what was done last, by name", async () => {
    const asked = server({
      [`GET ${HERE}`]: campaign({ undo: "set aside 2 exposures", redo: "made 12 the check star" }),
      [`POST ${HERE}/undo`]: { words: "Undone." },
    });
    show(<Bar />);
    fireEvent.click(await screen.findByTitle("Undo: set aside 2 exposures (Ctrl+Z)"));
    expect(screen.getByTitle("Again: made 12 the check star (Ctrl+Shift+Z)")).toBeTruthy();
    await vi.waitFor(() => expect(posted(asked)[0]!.path).toBe(`${HERE}/undo`));
  });

  it("switches looks", () => {
    server();
    show(<Bar />);
    fireEvent.change(screen.getByLabelText("look"), { target: { value: "red" } });
    expect(useApp.getState().look).toBe("red");
  });
});

describe("the log", () => {
  it("tells actions with what was undone, and long work with what failed", async () => {
    const at = "2026-09-21T08:05:00";
    server({
      [`GET ${HERE}/log`]: {
        entries: [
          { id: 2, at, who: "observer", words: "set aside 2 exposures", undone: true },
          { id: 1, at, who: "observer", words: "changed kit", undone: false },
        ],
      },
      [`GET ${HERE}/jobs`]: {
        jobs: [
          {
            id: 7, kind: "census", state: "failed", words: "No dark near 90 s.", done: 3, total: 9,
            failures: ["one.fits: cut short"], created: at, finished: at,
          },
        ],
      },
    }); // prettier-ignore
    useApp.setState({ historyShown: true });
    show(<History />);
    expect((await screen.findByText("set aside 2 exposures")).className).toContain("line-through");
    expect(screen.getByText("changed kit").className).toBe("");
    expect(screen.getAllByText("21 Sep 08:05")).toHaveLength(3);
    expect(screen.getByText("measure all stars").nextSibling!.textContent).toBe("failed");
    expect(screen.getByText("No dark near 90 s.")).toBeTruthy();
    expect(screen.getByText("one.fits: cut short")).toBeTruthy();
  });
});

describe("a new campaign", () => {
  it("is made from a folder that was chosen, and opened", async () => {
    const folders = (path: string, names: string[]) => ({
      path, parent: "", files: 40, has_plan: false,
      folders: names.map((name) => ({ path: `${path}/${name}`, name, files: 40, has_plan: true })),
    }); // prettier-ignore
    const asked = server({
      "GET /api/folders?path=": folders("", ["nights"]),
      "GET /api/folders?path=%2Fnights": folders("/nights", []),
      "POST /api/campaigns": campaign({ id: 5 }),
    });
    const close = vi.fn();
    show(<NewCampaign onClose={close} />);
    const sort = screen.getByText("Sort this folder") as HTMLButtonElement;
    expect(sort.disabled).toBe(true);
    fireEvent.click(await screen.findByText("/nights"));
    await userEvent.type(screen.getByLabelText("name"), "Foxglove 9");
    await vi.waitFor(() => expect(sort.disabled).toBe(false));
    fireEvent.click(sort);
    await vi.waitFor(() => expect(close).toHaveBeenCalled());
    expect(posted(asked)[0]!.body).toEqual({
      name: "Foxglove 9",
      folders: ["/nights"],
      reduce: false,
    });
    expect(useApp.getState()).toMatchObject({ campaign: 5, stage: "intake", beam: null });
  });

  it("says in words why a folder cannot be read", async () => {
    server({
      "GET /api/folders?path=": { path: "", parent: null, files: 0, has_plan: false, folders: [] },
      "GET /api/folders?path=%2Fetc": new Refusal(403, "Folder not allowed", "/etc is outside."),
    });
    show(<NewCampaign onClose={() => {}} />);
    await userEvent.type(screen.getByLabelText("path of the folder"), "/etc{Enter}");
    expect(await screen.findByText("Folder not allowed. /etc is outside.")).toBeTruthy();
  });
});

describe("Intake", () => {
  const files = [
    file(1),
    file(2, {
      kind: "",
      part: "left out",
      part_reason: "its header names no kind",
      question: true,
    }),
    file(3, { name: "raw/notes.txt", part: "left out", part_reason: "not a FITS file" }),
    file(4),
  ];
  const intake: Intake = {
    files,
    stacks: [
      {
        part: "exposure", kind: "exposure", filter: "V", exposure_s: 60, temperature_c: -10,
        settings: "640 × 480", night: "2026-09-20", count: 2, words: "", ids: [1, 4],
      },
    ],
    missing: ["There are no bias frames: a dark of another length cannot be scaled."],
  }; // prettier-ignore

  beforeEach(() => {
    for (const [name, size] of [["clientHeight", 400], ["clientWidth", 800]] as const)
      vi.spyOn(Element.prototype, name, "get").mockReturnValue(size);
  }); // prettier-ignore

  const names = () => screen.getAllByRole("option").map((o) => o.textContent!.slice(0, 16));

  it("lists what is missing, the stacks, and what needs an answer", async () => {
    server({ [`GET ${HERE}/intake`]: intake });
    show(<IntakeMain />);
    expect(await screen.findByText(/no bias frames/)).toBeTruthy();
    expect(screen.getByRole("table").textContent).toContain("Night of 20 Sep");
    await vi.waitFor(() => expect(names()).toHaveLength(4));
    fireEvent.click(screen.getByText("needs an answer 1"));
    await vi.waitFor(() => expect(names()).toEqual(["foxglove-002.fit"]));
    fireEvent.click(screen.getByText("left out 2"));
    await vi.waitFor(() => expect(names()).toHaveLength(2));
    fireEvent.click(screen.getByRole("row"));
    await vi.waitFor(() => expect(names()).toEqual(["foxglove-001.fit", "foxglove-004.fit"]));
    expect([...useChoice.getState().chosen]).toEqual([1, 4]);
  });

  it("chooses one file, more with Ctrl, a stretch with Shift", async () => {
    server({ [`GET ${HERE}/intake`]: intake });
    show(<IntakeMain />);
    const rows = await screen.findAllByRole("option");
    fireEvent.click(rows[0]!);
    fireEvent.click(rows[2]!, { ctrlKey: true });
    expect([...useChoice.getState().chosen]).toEqual([1, 3]);
    fireEvent.click(rows[2]!, { ctrlKey: true });
    expect([...useChoice.getState().chosen]).toEqual([1]);
    fireEvent.click(rows[1]!);
    fireEvent.click(rows[3]!, { shiftKey: true });
    expect([...useChoice.getState().chosen]).toEqual([2, 3, 4]);
    expect(useApp.getState().beam).toBe(4);
  });

  it("keeps one word for many files, and shows what each header said", async () => {
    const asked = server({
      [`GET ${HERE}/intake`]: intake,
      [`POST ${HERE}/corrections`]: { words: "corrected 2 files: kind dark" },
    });
    useChoice.setState({ chosen: new Set([1, 2]) });
    show(<IntakeBench />);
    const keep = (await screen.findByText("Keep for 2 files")) as HTMLButtonElement;
    expect(keep.disabled).toBe(true);
    expect(screen.getAllByText("Light (IMAGETYP)").length).toBeGreaterThan(0);
    fireEvent.change(screen.getByLabelText("kind"), { target: { value: "dark" } });
    fireEvent.click(keep);
    await vi.waitFor(() => expect(posted(asked)[0]!.body).toEqual({ ids: [1, 2], kind: "dark" }));
  });

  it("reads kind and filter out of the chosen files' names, and shows first what it read", async () => {
    const read = { exposure_s: null, filter: "V", kind: "exposure", time_utc: null };
    const pattern = "{kind}_{filter}";
    const address = `names?pattern=${encodeURIComponent(pattern)}`;
    const refused = new Refusal(422, "Not a pattern", "{cake} is none of {kind}, {filter}.");
    const asked = server({
      [`GET ${HERE}/intake`]: intake,
      [`GET ${HERE}/names?pattern=%7Bcake%7D`]: refused,
      [`GET ${HERE}/${address}`]: {
        files: [
          { id: 1, ...read, time_utc: "2026-09-20T21:04:30" },
          { id: 2, ...read, filter: "B", time_utc: "2026-09-20T20:00:00" },
          { id: 4, ...read },
        ],
      },
      [`POST ${HERE}/corrections/names`]: { words: "corrected 2 files" },
    });
    useChoice.setState({ chosen: new Set([1, 2, 3]) });
    show(<IntakeBench />);
    const field = await screen.findByLabelText("pattern of the file names");
    fireEvent.change(field, { target: { value: "{cake}" } });
    expect(await screen.findByText(/none of {kind}/)).toBeTruthy();
    fireEvent.change(field, { target: { value: pattern } });
    expect(await screen.findByText("2 of 3")).toBeTruthy();
    for (const words of ["exposure × 2", "V × 1, B × 1", "09-20 20:00:00 to 09-20 21:04:30"])
      expect(screen.getByText(words)).toBeTruthy();
    fireEvent.click(screen.getByText("Keep for 2 files"));
    await vi.waitFor(() => expect(posted(asked)[0]!.body).toEqual({ ids: [1, 2], pattern }));
  });

  it("sets target, catalogue, site and kit where they are left", async () => {
    const asked = server({ [`GET ${HERE}/intake`]: intake, [`PATCH ${HERE}`]: campaign() });
    show(<IntakeBench />);
    const height = await screen.findByLabelText("height, m");
    fireEvent.change(height, { target: { value: "155" } });
    fireEvent.blur(height);
    const gain = screen.getByLabelText("gain, e⁻ an ADU");
    fireEvent.change(gain, { target: { value: "" } });
    fireEvent.keyDown(gain, { key: "Enter" });
    const dec = screen.getByLabelText("declination");
    fireEvent.change(dec, { target: { value: "−12 30 00" } });
    fireEvent.blur(dec);
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(3));
    const [site, kit, target] = posted(asked).map((a) => a.body as Record<string, object>);
    expect(site).toEqual({ site: { ...campaign().site, elevation_m: 155 } });
    expect(kit).toEqual({ kit: { ...campaign().kit, gain_e_per_adu: null } });
    expect(target).toEqual({ target_ra: "22 44 48.00", target_dec: "-12 30 00" });
  });

  it("asks nothing where a field was only looked at", async () => {
    const asked = server({ [`GET ${HERE}/intake`]: intake });
    show(<IntakeBench />);
    const name = await screen.findByLabelText("name");
    fireEvent.focus(name);
    fireEvent.blur(name);
    expect(posted(asked)).toEqual([]);
  });

  it("says what to do where there is nothing yet", () => {
    useApp.setState({ campaign: null });
    server();
    show(<IntakeMain />);
    expect(screen.getByText("Choose a folder …")).toBeTruthy();
  });
});

describe("a fault of the program", () => {
  it("is said aloud where a page was asked for", async () => {
    server({
      [`GET ${HERE}/intake`]: new Refusal(500, "An error of the program", "It is in the log."),
    });
    show(
      <>
        <IntakeMain />
        <Saying />
      </>,
    );
    const said = await screen.findByRole("alert");
    expect(said.textContent).toContain("It is in the log.");
  });

  it("takes one part of the page with it, until another is opened", () => {
    vi.spyOn(console, "error").mockImplementation(() => {});
    const Broken = () => {
      throw new Error("no such module");
    };
    const page = (part: string) => (
      <Guard part={part}>{part === "curve" ? <Broken /> : <p>the plate</p>}</Guard>
    );
    const { rerender } = show(page("curve"));
    expect(screen.getByRole("alert").textContent).toContain("no such module");
    rerender(page("vet"));
    expect(screen.getByText("the plate")).toBeTruthy();
  });
});

describe("Correct", () => {
  const chain: Chain = {
    name: "60 s V",
    exposures: 6,
    stations: [
      {
        kind: "offset",
        words: "taken off: 14 darks, same night",
        master: "dark 60 s",
        remarks: [],
      },
      { kind: "flat", words: "divided by: 12 flats", master: "flat V", remarks: ["3 days old"] },
    ],
    missing: [],
    defects: 12,
    options: ["dark 60 s", "dark 30 s"].map((label) => ({
      step: "dark",
      key: label,
      label,
      words: "14 darks",
      remarks: label === "dark 30 s" ? ["half as long"] : [],
      picked: false,
    })),
    left_out: ["flat"],
  };
  const master = (id: number, kind: string): Master => ({
    id, label: kind, kind, filter: "", exposure_s: 60, temperature_c: -10, night: "2026-09-20",
    count: 14, level_adu: 312, clipped_share: 0.004, made_with: ["bias"], used: kind !== "bias",
    version: "",
  }); // prettier-ignore
  const correct: Correct = {
    chains: [chain],
    masters: [master(1, "bias"), master(2, "dark")],
    remarks: ["dust moved between two flats"],
  };

  it("switches a station off on the plate, and all of them on again", async () => {
    server({ [`GET ${HERE}/correct`]: correct });
    show(<CorrectBench />);
    const flat = await screen.findByRole("checkbox", { name: "divided by flat V" });
    expect(screen.getByText("3 days old")).toBeTruthy();
    fireEvent.click(flat);
    expect(useApp.getState().off).toEqual(["flat"]);
    expect(screen.getByText("divided by · switched off")).toBeTruthy();
    fireEvent.click(screen.getByText("All stations on"));
    expect(useApp.getState().off).toEqual([]);
  });

  it("puts a master on the plate and says what went into it", async () => {
    server({ [`GET ${HERE}/correct`]: correct });
    show(<CorrectBench />);
    const [bias, dark] = await screen.findAllByRole("button", { pressed: false });
    expect(bias!.textContent).toContain("not used");
    fireEvent.click(dark!);
    expect(useApp.getState().master).toBe(2);
    expect(screen.getByText("0.40 %")).toBeTruthy();
    fireEvent.click(dark!);
    expect(useApp.getState().master).toBeNull();
  });

  it("takes another master, or does without one, and says which is doubtful", async () => {
    const asked = server({
      [`GET ${HERE}/correct`]: correct,
      [`POST ${HERE}/masters/pick`]: { words: "picked" },
    });
    show(<CorrectBench />);
    const dark = (await screen.findByLabelText("dark of this chain")) as HTMLSelectElement;
    expect([...dark.options].map((o) => o.text)).toEqual([
      "the best that fits",
      "dark 60 s: 14 darks",
      "dark 30 s: 14 darks · doubtful",
      "none: leave this step out",
    ]);
    fireEvent.change(dark, { target: { value: "dark 30 s" } });
    const body = { chain: "60 s V", step: "dark", key: "dark 30 s" };
    await vi.waitFor(() => expect(posted(asked)[0]!.body).toEqual(body));
    const [bias, flat] = ["bias", "flat"].map(
      (step) => screen.getByLabelText(`${step} of this chain`) as HTMLSelectElement,
    );
    expect(bias!.disabled).toBe(true);
    expect(flat!.value).toBe("none");
  });

  it("builds masters first, once there is a night", async () => {
    const asked = server({
      [`GET ${HERE}/correct`]: { chains: [], masters: [], remarks: [] },
      [`GET ${HERE}`]: campaign({}, { correct: { state: "todo" } }),
      [`POST ${HERE}/jobs`]: {},
    });
    show(<CorrectBench />);
    fireEvent.click(await screen.findByText("Build the masters"));
    await vi.waitFor(() => expect(posted(asked)[0]!.body).toEqual({ kind: "masters" }));
  });
});

describe("Vet", () => {
  const exposures = [
    exposure(1, { fwhm_px: 3 }),
    exposure(2, { fwhm_px: 6 }),
    exposure(3, { fwhm_px: 7, proposal: "out of focus" }),
    exposure(4, { aside_by: "observer", aside: "haze" }),
    exposure(5, { trouble: "wrong field" }),
  ];

  it("shows how many each limit would drop before it drops them", async () => {
    const asked = server({
      [`GET ${HERE}/exposures`]: { exposures, reference: 1 },
      [`POST ${HERE}/aside`]: { words: "set aside" },
    });
    show(<VetBench />);
    const width = await screen.findByLabelText("star width above");
    fireEvent.focus(width);
    expect(useApp.getState().quality).toBe("fwhm_px");
    fireEvent.change(width, { target: { value: "5" } });
    expect(screen.getByText("−2")).toBeTruthy();
    fireEvent.click(screen.getByText("Show on the rail"));
    expect(useApp.getState().selection).toEqual([2, 3]);
    fireEvent.click(screen.getByText("Set aside 2 exposures"));
    await vi.waitFor(() =>
      expect(posted(asked)[0]!.body).toEqual({
        ids: [2, 3],
        aside: true,
        reason: "star width above 5 px",
      }),
    );
  });

  it("accepts a proposal or keeps the exposure, and restores what was set aside", async () => {
    const asked = server({
      [`GET ${HERE}/exposures`]: { exposures, reference: 1 },
      [`POST ${HERE}/aside`]: {},
      [`POST ${HERE}/proposals`]: {},
    });
    show(<VetBench />);
    fireEvent.click(await screen.findByText("Set aside all 1"));
    fireEvent.click(screen.getByText("Restore"));
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(2));
    expect(posted(asked).map((a) => a.body)).toEqual([
      { ids: [3] },
      { ids: [4], aside: false, reason: "" },
    ]);
    // What cannot be measured is listed, but there is nothing to restore.
    expect(screen.getByText("wrong field")).toBeTruthy();
    expect(screen.getAllByText("Restore")).toHaveLength(1);
  });

  it("leads to Place while nothing is known of the exposures", async () => {
    const bare = [exposure(1, { fwhm_px: null })];
    server({ [`GET ${HERE}/exposures`]: { exposures: bare, reference: null } });
    show(<VetBench />);
    fireEvent.click(await screen.findByText("Go to Place"));
    expect(useApp.getState().stage).toBe("place");
  });
});

describe("Place", () => {
  it("tells the solution in words and lists what failed with what was tried", async () => {
    const failed = exposure(3, { trouble: "not placed: tried the whole catalogue", placed: false });
    server({
      [`GET ${HERE}/exposures`]: { exposures: [exposure(1), exposure(2), failed], reference: 1 },
      "GET /api/files/2/placement": {
        words: "1.2000″ a pixel", how: "from its header", scale_arcsec_per_px: 1.2,
        rotation_deg: 90, mirrored: false, matched: 140, compared: 150, residual_px: 0.05,
        residual_arcsec: 0.06, false_log10: -120, ra_deg: 341.2, dec_deg: 41.6, trouble: "", wcs: {},
      },
    }); // prettier-ignore
    show(<PlaceBench />);
    expect(await screen.findByText("2 of 3 exposures are placed.")).toBeTruthy();
    expect(await screen.findByText("1 in 10¹²⁰")).toBeTruthy();
    expect(screen.getByText("140 of 150")).toBeTruthy();
    fireEvent.click(screen.getByText("foxglove-003.fits"));
    expect(useApp.getState().beam).toBe(3);
  });
});

describe("Cast", () => {
  const star = (row: number, values: object = {}) => ({
    row, name: catalogue().name[row]!, magnitude: 12, colour: 0.6, measured: 12, off_line: 0.001,
    scatter_mag: 0.004, expected_mag: 0.004, varies: false, present: 1, words: "0.2 mag fainter",
    series: [0, 0.001, null], ...values,
  }); // prettier-ignore
  const candidates: Candidates = {
    filter: "V",
    band: "V",
    file_ids: [1, 2, 3],
    candidates: [star(1), star(3), star(4, { varies: true, scatter_mag: 0.03 })],
  };

  it("gives and takes a part with one click, and says who varies", async () => {
    const asked = server({
      [`GET ${HERE}/candidates?filter=`]: candidates,
      [`POST ${HERE}/cast`]: curve(),
    });
    show(<CastBench />);
    fireEvent.click(await screen.findByLabelText("Foxglove 14: no part"));
    fireEvent.click(screen.getByLabelText("Foxglove 11: comparison"));
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(2));
    expect(posted(asked)[0]!.body).toEqual({ target: 0, comparison: [1, 2, 4], check: 3 });
    expect(screen.getByText("varies. 0.2 mag fainter")).toBeTruthy();
    expect(screen.getByText("30.0").className).toContain("trouble");
  });

  it("asks for the target where nobody knows it yet", async () => {
    const unknown = { name: "", ra_deg: 341.2, dec_deg: 41.6, sure: false, row: null };
    server({ [`GET ${HERE}`]: campaign({ cast: null, target: unknown }) });
    show(<CastBench />);
    expect(await screen.findByText(/Click your star on the plate and press T/)).toBeTruthy();
    expect(screen.queryByText("Measure all stars")).toBeNull();
  });
});

describe("Curve", () => {
  it("gives the figures of each filter, and what its hollow points carry", async () => {
    const data = curve();
    data.filters[0]!.series[0]!.flags = { 0: "bad pixel", 2: "bad pixel" };
    server({ [`GET ${HERE}/curve`]: data });
    show(<CurveBench />);
    expect(await screen.findByText("3 points")).toBeTruthy();
    expect(screen.getByText("12.000 · 12.400")).toBeTruthy();
    expect(screen.getByText("5.0, 4.8 expected")).toBeTruthy();
    expect(screen.getByText("hollow: bad pixel").nextSibling!.textContent).toBe("2");
  });

  it("folds as soon as a period is typed", async () => {
    server();
    show(<CurveBench />);
    await userEvent.type(await screen.findByLabelText("period in days"), "0.35");
    expect(useShown.getState()).toMatchObject({ fold: true, period: "0.35" });
    fireEvent.click(screen.getByText("over time"));
    expect(useShown.getState().fold).toBe(false);
  });

  it("copies the points as a table", async () => {
    server();
    const user = userEvent.setup();
    show(<CurveBench />);
    await user.click(await screen.findByText("Copy data"));
    const lines = (await navigator.clipboard.readText()).split("\n");
    expect(lines).toHaveLength(4);
    expect(lines[1]!.split("\t").slice(3)).toEqual(["12", "0.004", "12.4"]);
  });
});

describe("Report", () => {
  const page = (state: "good" | "stop"): ReportPage => ({
    layout: "plain",
    layouts: ["plain"],
    preview: "# Light curve of Foxglove 7\n2461326.3 12.00",
    lines: 2,
    checks: [{ state, words: "24 points." }],
    reports: [
      {
        id: 4, created: "2026-09-21T08:00:00", layout: "plain", files: ["report.txt"], points: 24,
        changed: 2,
      },
    ],
  }); // prettier-ignore

  it("shows what goes out, what was handed out, and how much of it differs now", async () => {
    server({ [`GET ${HERE}/report`]: page("good") });
    show(
      <>
        <ReportMain />
        <ReportBench />
      </>,
    );
    expect((await screen.findByTestId("preview")).textContent).toContain("Foxglove 7");
    expect(screen.getByText("2 of them differ now.")).toBeTruthy();
    expect(screen.getByText("report.txt").getAttribute("href")).toBe("/api/reports/4/report.txt");
  });

  it("does not export against a check that stops it", async () => {
    server({ [`GET ${HERE}/report`]: page("stop") });
    show(<ReportBench />);
    const out = (await screen.findByText("Export the report")) as HTMLButtonElement;
    expect(out.disabled).toBe(true);
    expect(screen.getByLabelText("stop").textContent).toBe("×");
  });

  it("says what it waits for", async () => {
    server({
      [`GET ${HERE}`]: campaign({}, { report: { state: "waiting", words: "waits for Curve" } }),
    });
    show(<ReportMain />);
    expect(await screen.findByText("waits for Curve")).toBeTruthy();
  });
});

describe("beside the rail", () => {
  it("stands what is known of the exposure, or the selected stretch with what can be done", async () => {
    const exposures = [exposure(1), exposure(2, { aside_by: "observer", aside: "haze" })];
    const timeline = timelineOf(exposures.map((e) => ({ jd: e.jd_utc, night: 1 })));
    const axis = { timeline, domain: [0, 1] as [number, number], exposures, hours: new Map() };
    const asked = server({ [`POST ${HERE}/aside`]: {} });
    show(<RailFacts axis={axis} beam={2} />);
    expect(screen.getByText("Set aside: haze")).toBeTruthy();
    useApp.setState({ selection: [1, 2] });
    expect(await screen.findByText("2 exposures selected")).toBeTruthy();
    fireEvent.click(screen.getByText("Set aside"));
    fireEvent.click(screen.getByText("Restore 1"));
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(2));
    expect(posted(asked).map((a) => (a.body as { aside: boolean }).aside)).toEqual([true, false]);
  });
});

describe("what is said", () => {
  it("goes by itself, but trouble stays until it is read", () => {
    vi.useFakeTimers();
    show(<Saying />);
    const saying = (tone: "plain" | "trouble") => ({ words: `a ${tone} word`, tone, at: 0 });
    act(() => useApp.setState({ saying: saying("plain") }));
    act(() => void vi.advanceTimersByTime(10_000));
    expect(useApp.getState().saying).toBeNull();
    act(() => useApp.setState({ saying: saying("trouble") }));
    act(() => void vi.advanceTimersByTime(10_000));
    expect(screen.getByRole("alert").textContent).toContain("a trouble word");
    fireEvent.click(screen.getByText("close"));
    expect(useApp.getState().saying).toBeNull();
    vi.useRealTimers();
  });
});

// @vitest-environment jsdom
import { act, fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Candidates, Progress, Radii, Scale, ReportPage, StarOnExposure } from "../api/types";
import { RailFacts } from "../rail/RailFacts";
import { timelineOf } from "../rail/timeline";
import { CastBench } from "../stages/Cast";
import { CurveBench, CurveMain } from "../stages/Curve";
import { IntakeMain } from "../stages/Intake";
import { PlaceBench } from "../stages/Place";
import { ReportBench, ReportMain } from "../stages/Report";
import { VetBench } from "../stages/Vet";
import { useShown } from "../stages/curve/view";
import { useReportView } from "../stages/report/view";
import { useApp } from "../state";
import { Bar } from "../ui/Bar";
import { Guard } from "../ui/Guard";
import { Sheets } from "../ui/Sheets";
import { NewCampaign } from "../ui/NewCampaign";
import { Saying } from "../ui/Saying";
import { StageList } from "../ui/StageList";
import { MeasureBench } from "../stages/Measure";
import { campaign, catalogue, curve, exposure, vetting } from "./builders";
import { HERE, posted, Refusal, server, show, tidy, type Asked } from "./page";

beforeEach(() => useApp.setState({ campaign: 1, beam: 2 }));
afterEach(() => {
  tidy();
  useShown.setState({ view: "time", period: "", scale: "standard" });
  useReportView.setState({ view: "preview", draft: null, name: "" });
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
      [`GET ${HERE}`]: campaign({
        undo: { id: 2, words: "set aside 2 exposures", elsewhere: false },
        redo: { id: 3, words: "made 12 the check star", elsewhere: false },
      }),
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

describe("more than one tab", () => {
  it("takes another tab's action back only by its own name, and says whose it is", async () => {
    const theirs = { id: 7, words: "set aside 2 exposures", elsewhere: true };
    const asked = server({
      [`GET ${HERE}`]: campaign({ undo: theirs }),
      [`POST ${HERE}/undo?entry=7`]: { words: "Undone." },
    });
    show(<Bar />);
    const button = await screen.findByTitle(
      "Undo: set aside 2 exposures, done in another tab or earlier (Ctrl+Z)",
    );
    fireEvent.click(button);
    await vi.waitFor(() => expect(posted(asked)[0]!.path).toBe(`${HERE}/undo?entry=7`));
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
    useApp.setState({ sheet: "log" });
    show(<Sheets />);
    expect((await screen.findByText("set aside 2 exposures")).className).toContain("line-through");
    expect(screen.getByText("changed kit").className).toBe("");
    expect(screen.getAllByText("21 Sep 08:05")).toHaveLength(3);
    expect(screen.getByText("measure all stars").nextSibling!.textContent).toBe("failed");
    expect(screen.getByText("No dark near 90 s.")).toBeTruthy();
    expect(screen.getByText("one.fits: cut short")).toBeTruthy();
  });
});

describe("the origin of a point", () => {
  it("is told step by step, and goes along as text", async () => {
    const copied = vi.fn().mockResolvedValue(undefined);
    vi.stubGlobal("navigator", { ...navigator, clipboard: { writeText: copied } });
    server({
      ["GET /api/files/2/origin"]: {
        name: "raw/foxglove-002.fits",
        blocks: [
          { title: "on the curve", facts: [{ name: "magnitude", words: "12.3 ± 0.004" }] },
          { title: "raw file", facts: [{ name: "SHA-256", words: "ab12" }] },
        ],
      },
    });
    useApp.setState({ sheet: "origin" });
    show(<Sheets />);
    expect((await screen.findByText("SHA-256")).nextSibling!.textContent).toBe("ab12");
    expect(screen.getByRole("dialog").textContent).toContain("Origin of foxglove-002.fits");
    fireEvent.click(screen.getByText("Copy as text"));
    expect(copied).toHaveBeenCalledWith(
      "raw/foxglove-002.fits\non the curve\n  magnitude: 12.3 ± 0.004\nraw file\n  SHA-256: ab12",
    );
    await vi.waitFor(() => expect(useApp.getState().saying?.words).toBe("Copied."));
  });
});

describe("a new campaign", () => {
  it("is made from a folder that was chosen, and opened", async () => {
    const folders = (path: string, names: string[]) => ({
      path, parent: "", files: 40, has_plan: false, named: [],
      folders: names.map((name) => ({ path: `${path}/${name}`, name, files: 40, has_plan: true })),
    }); // prettier-ignore
    const asked = server({
      "GET /api/folders?path=&files=": folders("", ["nights"]),
      "GET /api/folders?path=%2Fnights&files=": folders("/nights", []),
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
      "GET /api/folders?path=&files=": {
        path: "",
        parent: null,
        files: 0,
        has_plan: false,
        folders: [],
        named: [],
      },
      "GET /api/folders?path=%2Fetc&files=": new Refusal(
        403,
        "Folder not allowed",
        "/etc is outside.",
      ),
    });
    show(<NewCampaign onClose={() => {}} />);
    await userEvent.type(screen.getByLabelText("path of the folder"), "/etc{Enter}");
    expect(await screen.findByText("Folder not allowed. /etc is outside.")).toBeTruthy();
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

describe("Vet", () => {
  const exposures = [
    exposure(1, { fwhm_px: 3 }),
    exposure(2, { fwhm_px: 6 }),
    exposure(3, { fwhm_px: 7, proposal: "out of focus" }),
    exposure(4, { aside_by: "observer", aside: "haze" }),
    exposure(5, { trouble: "wrong field" }),
  ];

  it("shows how many each limit would drop before it is kept, and lifts it again", async () => {
    const kept = { quality: "stars", above: null, below: 30, filter: "B", night: "" };
    const asked = server({
      [`GET ${HERE}/exposures`]: { exposures, reference: 1 },
      [`GET ${HERE}/vetting`]: vetting({
        limits: [{ ...kept, words: "stars below 30", drops: 1 }],
      }),
      [`PUT ${HERE}/vetting`]: vetting(),
    });
    show(<VetBench />);
    const width = await screen.findByLabelText("star width above");
    fireEvent.focus(width);
    expect(useApp.getState().lines).toEqual(["fwhm_px"]);
    fireEvent.change(width, { target: { value: "5" } });
    expect(screen.getByText("−2")).toBeTruthy();
    fireEvent.click(screen.getByText("Show"));
    expect(useApp.getState().selection).toEqual([2, 3]);
    fireEvent.change(screen.getByLabelText("for which exposures"), { target: { value: "filter" } });
    useApp.setState({ beam: 1 });
    fireEvent.click(await screen.findByText("Keep, and set aside 2 exposures"));
    const wide = { quality: "star width", above: 5, below: null, filter: "V", night: "" };
    fireEvent.click(await screen.findByText("Lift"));
    await vi.waitFor(() => expect(asked.filter((a) => a.method === "PUT")).toHaveLength(2));
    const sent = asked.filter((a) => a.method === "PUT").map((a) => a.body);
    expect(sent).toEqual([{ limits: [kept, wide] }, { limits: [] }]);
  });

  it("accepts a proposal or keeps the exposure, and restores what was set aside", async () => {
    const asked = server({
      [`GET ${HERE}/exposures`]: { exposures, reference: 1 },
      [`POST ${HERE}/aside`]: {},
      [`POST ${HERE}/proposals`]: {},
    });
    show(<VetBench />);
    fireEvent.click(await screen.findByText("Set it aside"));
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

  it("combines runs of exposures into a campaign of their own", async () => {
    const asked = server({
      [`GET ${HERE}/exposures`]: { exposures, reference: 1 },
      [`POST ${HERE}/jobs`]: {},
    });
    show(<VetBench />);
    const count = await screen.findByLabelText("how many make one");
    fireEvent.change(count, { target: { value: "1" } });
    const combine = screen.getByText("Combine them") as HTMLButtonElement;
    expect(combine.disabled).toBe(true);
    fireEvent.change(count, { target: { value: "20" } });
    fireEvent.change(screen.getByLabelText("of what"), { target: { value: "minutes" } });
    fireEvent.change(screen.getByLabelText("by"), { target: { value: "median" } });
    fireEvent.click(combine);
    const body = { kind: "combine", minutes: 20, method: "median", ids: [] };
    await vi.waitFor(() => expect(posted(asked)[0]!.body).toEqual(body));
  });

  it("leads to Place while nothing is known of the exposures", async () => {
    const bare = [exposure(1, { fwhm_px: null })];
    const asked = server({
      [`GET ${HERE}/exposures`]: { exposures: bare, reference: null },
      [`POST ${HERE}/jobs`]: {},
    });
    show(<VetBench />);
    fireEvent.click(await screen.findByText("Look at them"));
    await vi.waitFor(() => expect(posted(asked)[0]!.body).toEqual({ kind: "look" }));
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
    fireEvent.click(await screen.findByLabelText(/Foxglove 14: no part/));
    fireEvent.click(screen.getByLabelText(/Foxglove 11: comparison/));
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(2));
    expect(posted(asked)[0]!.body).toEqual({ target: 0, comparison: [1, 2, 4], checks: [3] });
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

const RADII = [0.6, 0.75, 0.9, 1.05, 1.2, 1.4, 1.6];

describe("Measure", () => {
  const radii: Radii = {
    filter: "V",
    step: 6,
    radii_px: RADII.map((r) => 3 * r),
    nights: [
      { night: 1, radii_px: RADII.map((r) => 3 * r) },
      { night: 2, radii_px: RADII.map((r) => 2.5 * r) },
    ],
    radii_fwhm: [...RADII],
    target_snr: RADII.map((_, i) => 200 + i),
    scatter_mag: RADII.map((_, i) => 0.004 + 0.0001 * i),
    best: 4,
  };
  const budget = {
    star: 0.003,
    sky: 0.004,
    dark: 0,
    read: 0,
    masters: 0,
    scintillation: 0,
    total_mag: 0.005,
  };
  const star: StarOnExposure = {
    row: 0, name: "Foxglove 7", filter: "V", x_px: 320, y_px: 240, sky_adu_per_px: 90,
    peak_adu: 5000, flags: "cosmic ray", radii_px: radii.radii_px, annulus_px: [10, 16],
    counts_adu: RADII.map(() => 9000), uncertainty_adu: RADII.map(() => 40),
    snr: RADII.map(() => 225), profile_radius_px: [1, 2], profile_adu: [5000, 3000],
    budgets: RADII.map(() => budget),
  }; // prettier-ignore
  const nights = [
    { id: 1, evening: "2026-09-20" },
    { id: 2, evening: "2026-09-21" },
  ];

  const scale = (): Scale => ({
    filter: "V", band: "V", index: "B-V", applied: true, given: false, why: "",
    bands: ["B", "V"], transform: { value: -0.04, uncertainty: 0.005, fitted: 30 },
    second_order: null, extinction: { value: 0.16, uncertainty: 0.004, fitted: 60 },
    mean_airmass: 1.2, extinction_at: 0.6, comparison_colour: 0.6, target_colour: 0.3,
    colour_source: "measured", shift_mag: 0.012, common_mag: 0.0015, level: 0, slope: -0.04,
    centre: 0.6, stars: [{ row: 4, name: "x", colour_uncertainty: 0.01, colour: 0.5, offset_mag: 0, offset_uncertainty: 0.01, used: true }],
    air: { file_ids: [1, 2], group: ["a", "a"], airmass: [1, 1.8], zero_point: [20.1, 19.9],
      fitted: [20.1, 19.9], used: [true, true],
      nights: [{ group: "a", night: "2026-09-20", value: 0.25, uncertainty: 0.004, fitted: 2 }] },
    kit: "Kittiwake 800", kept_mean: null,
    kept: [{ id: 4, coefficient: -0.05, uncertainty: 0.003, airmass: 1.1, stars: 80,
      nights: "2026-08-01", campaign: "Sorrel field" }],
  }); // prettier-ignore

  function measured(more: Record<string, unknown> = {}): Asked[] {
    return server({
      [`GET ${HERE}`]: campaign({ nights }),
      [`GET ${HERE}/exposures`]: {
        exposures: [exposure(1), exposure(2, { night: 2 })],
        reference: 1,
      },
      [`GET ${HERE}/radii?filter=V`]: radii,
      [`GET ${HERE}/star?row=0&file=2`]: star,
      [`POST ${HERE}/recipe`]: curve(),
      ...more,
    });
  }

  it("says how the standard scale is reached, and takes what the observer says", async () => {
    const asked = measured({
      [`GET ${HERE}/scale?filter=V`]: scale(),
      [`POST ${HERE}/transform`]: curve(),
    });
    const user = userEvent.setup();
    show(<MeasureBench />);
    expect(await screen.findByText("−0.0400 ± 0.0050")).toBeTruthy();
    expect(screen.getByText(/a shift of 12 mmag/)).toBeTruthy();
    await user.click(screen.getByRole("radio", { name: "by airmass" }));
    expect(screen.getByText("0.250 ± 0.004 mag an airmass")).toBeTruthy();
    await user.type(screen.getByLabelText("coefficient in V"), "−0,05{Enter}");
    await user.click(screen.getByLabelText(/bring magnitudes/));
    await user.click(screen.getByText("take"));
    await user.click(screen.getByText("Keep −0.0400 for this kit"));
    await vi.waitFor(() =>
      expect(asked.filter((a) => a.path.endsWith("transform")).map((a) => a.body)).toEqual([
        { given: { V: { coefficient: -0.05, uncertainty: 0, index: "B-V" } } },
        { apply: false },
        { given: { V: { coefficient: -0.05, uncertainty: 0.003, index: "B-V" } } },
      ]),
    );
    expect(asked.find((a) => a.path.endsWith("scale/keep"))!.body).toEqual({ filter: "V" });
  });

  it("says the radius as it is on the exposure's own night, and on the others", async () => {
    measured();
    show(<MeasureBench />);
    expect(await screen.findByText("4.00 px")).toBeTruthy();
    expect(screen.getByText("20 Sep 4.80 px · 21 Sep 4.00 px")).toBeTruthy();
    expect(screen.getByText(/= 1.6 star widths of the night/)).toBeTruthy();
  });

  it("takes the radius that the night asks for", async () => {
    const asked = measured();
    show(<MeasureBench />);
    expect(
      await screen.findByText(/asks for 1.2 star widths: constant stars scatter by 4.4/),
    ).toBeTruthy();
    fireEvent.click(screen.getByText("Take 3.00 px"));
    await vi.waitFor(() =>
      expect(posted(asked)[0]!.body).toEqual({ steps: { V: 4 }, automatic: false }),
    );
  });

  it("says where the uncertainty comes from, in shares of its square", async () => {
    measured();
    show(<MeasureBench />);
    const budget = await screen.findByText("5.0 mmag in all");
    expect(budget).toBeTruthy();
    expect(screen.getByText("3.00 mmag · 36%")).toBeTruthy();
    expect(screen.getByText("4.00 mmag · 64%")).toBeTruthy();
    expect(screen.getByText("cosmic ray")).toBeTruthy();
  });
});

describe("Curve", () => {
  it("gives the figures of each filter, and what its doubtful points carry", async () => {
    const data = curve();
    const target = data.filters[0]!.series[0]!;
    target.flags = {
      0: "bad pixel 12 mmag",
      1: "bad pixel 0.1 mmag",
      2: "bad pixel 3.5 mmag, trail",
    };
    target.doubtful = [0, 2];
    server({ [`GET ${HERE}/curve`]: data });
    show(<CurveBench />);
    expect(await screen.findByText("3 points")).toBeTruthy();
    expect(screen.getByText("12.000 · 12.400")).toBeTruthy();
    expect(screen.getByText("5.0, 4.8 expected")).toBeTruthy();
    expect(screen.getByText("doubtful, hollow").nextSibling!.textContent).toBe("2");
    expect(screen.getByText("for bad pixel").nextSibling!.textContent).toBe("2, up to 12 mmag");
    expect(screen.getByText("for trail").nextSibling!.textContent).toBe("1");
  });

  it("offers no second reduction while one is at work", async () => {
    server({ [`GET ${HERE}/curve`]: { ...curve(), filters: [], problems: [] } });
    const progress: Progress = {
      job: 9, campaign: 1, kind: "reduce", words: "measuring",
      done: 84, total: 212, rate: 3.21, left_s: 41, failures: [],
    }; // prettier-ignore
    useApp.setState({ progress });
    show(<CurveMain />);
    expect(await screen.findByText(/appears when they are/)).toBeTruthy();
    expect(screen.queryByText("Reduce all of it")).toBeNull();
    act(() => useApp.setState({ progress: null }));
    expect(screen.getByText("Reduce all of it")).toBeTruthy();
  });

  it("folds as soon as a period is typed", async () => {
    server();
    show(<CurveBench />);
    await userEvent.click(await screen.findByText("phase"));
    await userEvent.type(await screen.findByLabelText("period in days"), "0.35");
    expect(useShown.getState()).toMatchObject({ view: "phase", period: "0.35" });
    await userEvent.click(screen.getByText("double"));
    expect(Number(useShown.getState().period)).toBeCloseTo(0.7);
    fireEvent.click(screen.getByText("time"));
    expect(useShown.getState().view).toBe("time");
  });

  it("copies the points as a table", async () => {
    server();
    const user = userEvent.setup();
    show(<CurveBench />);
    await user.click(await screen.findByText("Copy data"));
    const lines = (await navigator.clipboard.readText()).split("\n");
    expect(lines).toHaveLength(4);
    expect(lines[1]!.split("\t").slice(3)).toEqual([
      ...["12", "0.004", "12.4", "good"],
      ...["12.05", "0.006", ""],
    ]);
  });
});

describe("Report", () => {
  const page = (state: "good" | "stop"): ReportPage => ({
    layout: "plain",
    about: "",
    layouts: [{ key: "plain", name: "plain", own: false, about: "" }],
    scope: "all",
    points: 24,
    changes: [
      {
        file_id: 2, filter: "V", jd_utc: 2461304.4, before: 12.4, now: 12.41, report: 4,
        why: "another radius",
      },
    ],
    fields: [{ name: "observer", value: "", usual: "" }],
    held: [],
    preview: "# Light curve of Foxglove 7\n2461326.3 12.00",
    lines: 2,
    checks: [{ state, words: "24 points." }],
    reports: [
      {
        id: 4, created: "2026-09-21T08:00:00", layout: "plain", files: ["report.txt"], points: 24,
        changed: 2, star: "Foxglove 7", other: false, scope: "all", recipient: "", sent: null, note: "",
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

  it("lists what changed, fills the layout's fields, marks what was sent", async () => {
    const asked = server({ [`GET ${HERE}/report`]: page("good") });
    const user = userEvent.setup();
    show(
      <>
        <ReportMain />
        <ReportBench />
      </>,
    );
    await user.click(await screen.findByText("changes, 1"));
    expect(screen.getByText("another radius").closest("tr")!.textContent).toContain("10.0 mmag");
    await user.type(screen.getByPlaceholderText("the layout asks for it"), "Ada{Enter}");
    await user.click(screen.getByText("only new"));
    await user.click(screen.getByText("Mark as sent …"));
    await user.type(screen.getByLabelText("sent to"), "the society");
    await user.click(screen.getByText("Keep it"));
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(3));
    expect(posted(asked).map((a) => a.body)).toEqual([
      { fields: { observer: "Ada" } },
      { scope: "new" },
      { recipient: "the society", note: "" },
    ]);
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
    const axis = {
      timeline,
      domain: [0, 1] as [number, number],
      clock: "ut" as const,
      exposures,
      hours: new Map(),
      loading: false,
    };
    const asked = server({ [`POST ${HERE}/aside`]: {} });
    show(<RailFacts axis={axis} beam={2} />);
    expect(screen.getByText("Set aside: haze")).toBeTruthy();
    useApp.setState({ selection: [1, 2] });
    expect(await screen.findByText("2 exposures selected")).toBeTruthy();
    fireEvent.click(screen.getByText("Set aside"));
    fireEvent.click(screen.getByText("Restore 1"));
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(2));
    expect(posted(asked).map((a) => (a.body as { aside: boolean }).aside)).toEqual([true, false]);
    act(() => useApp.setState({ benchFolded: true }));
    expect(screen.getByText("2 exposures selected")).toBeTruthy(); // to be acted on, bench or not
    act(() => useApp.setState({ selection: [] }));
    expect(screen.queryByText("Set aside: haze")).toBeNull();
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

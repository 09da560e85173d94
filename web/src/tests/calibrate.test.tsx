// @vitest-environment jsdom
import { QueryClientProvider } from "@tanstack/react-query";
import { act, fireEvent, renderHook, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Chain, Correct, Intake, Kits, Master, Options } from "../api/types";
import { CorrectBench } from "../stages/Correct";
import { useChoice } from "../stages/intake/choice";
import { IntakeBench, IntakeMain } from "../stages/Intake";
import { client } from "../api/queries";
import { DEFAULT_STRETCH } from "../plate/painter";
import { useScene } from "../plate/scene";
import { useApp } from "../state";
import { campaign, file } from "./builders";
import { HERE, posted, Refusal, server, show, tidy } from "./page";

beforeEach(() => useApp.setState({ campaign: 1, beam: 2 }));
afterEach(() => {
  tidy();
  useChoice.setState({ kept: "all", stack: null, chosen: new Set(), last: null });
});

const SAID = {
  gain_e_per_adu: null, read_noise_e: null, linear_limit_adu: null, scale_arcsec_per_px: null,
  exposure_tolerance: null, temperature_tolerance_c: null, lasts_days: null, combine: null,
  clip_sigma: null,
}; // prettier-ignore
const kits: Kits = {
  kits: [
    {
      name: "Kittiwake 800, 640 × 480, gain 100",
      kit: "Kittiwake 800, 640 × 480",
      setting: "gain 100",
      exposures: 12,
      constants: { gain_e_per_adu: "1.300 e⁻/ADU from the header (EGAIN)" },
      said: SAID,
      rules: {
        exposure_tolerance: 0.02,
        temperature_tolerance_c: 1.5,
        lasts_days: 60,
        combine: "clipped",
        clip_sigma: 4,
      },
    },
  ],
};

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
        settings: "640 × 480", night: "2026-09-20", kit: "Kittiwake 800, 640 × 480",
        count: 2, words: "", ids: [1, 4],
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

  it("is walked with the keyboard, which stays in the list", async () => {
    server({ [`GET ${HERE}/intake`]: intake });
    show(<IntakeMain />);
    const rows = await screen.findAllByRole("option");
    expect(rows.map((row) => row.tabIndex)).toEqual([0, -1, -1, -1]);
    const passed = vi.fn();
    window.addEventListener("keydown", passed);
    const press = (key: string, more = {}) =>
      fireEvent.keyDown(document.activeElement!, { key, ...more });
    rows[0]!.focus();
    press("ArrowDown");
    expect(document.activeElement).toBe(rows[1]);
    expect([...useChoice.getState().chosen]).toEqual([2]);
    press("ArrowDown", { shiftKey: true });
    expect([...useChoice.getState().chosen]).toEqual([2, 3]);
    press(" ");
    expect([...useChoice.getState().chosen]).toEqual([2]);
    press("a", { ctrlKey: true });
    expect(useChoice.getState().chosen.size).toBe(4);
    expect(passed).not.toHaveBeenCalled();
    press("x");
    expect(passed).toHaveBeenCalledTimes(1);
    window.removeEventListener("keydown", passed);
  });

  it("keeps one word for many files, and shows what each header said", async () => {
    const asked = server({
      [`GET ${HERE}/intake`]: intake,
      [`POST ${HERE}/corrections/preview`]: {
        count: 1,
        files: [{ id: 2, name: "night/foxglove-002.fit", changes: ["kind exposure → dark"] }],
      },
      [`POST ${HERE}/corrections`]: { words: "corrected 2 files: kind dark" },
      [`POST ${HERE}/said`]: { said: { kind: "Light (IMAGETYP)", filter: "several" } },
    });
    useChoice.setState({ chosen: new Set([1, 2]) });
    show(<IntakeBench />);
    const keep = (await screen.findByText("Keep for 2 files")) as HTMLButtonElement;
    expect(keep.disabled).toBe(true);
    expect(await screen.findByText("Light (IMAGETYP)")).toBeTruthy();
    expect(posted(asked)[0]!.body).toEqual({ ids: [1, 2] });
    fireEvent.change(screen.getByLabelText("kind"), { target: { value: "dark" } });
    // What would change is seen first; nothing is kept for it.
    expect(await screen.findByText("kind exposure → dark")).toBeTruthy();
    expect(screen.getByText("1 of 2 would change:")).toBeTruthy();
    const kept = () => posted(asked).filter((a) => a.path.endsWith("/corrections"));
    expect(kept()).toEqual([]);
    fireEvent.click(keep);
    await vi.waitFor(() => expect(kept()[0]!.body).toEqual({ ids: [1, 2], kind: "dark" }));
  });

  it("reads kind and filter out of the chosen files' names, and shows first what it read", async () => {
    const read = {
      ...{ exposure_s: null, filter: "V", kind: "exposure", time_utc: null, camera: null },
      ...{ temperature_c: null, gain_setting: null, offset_setting: null },
    };
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
      [`POST ${HERE}/said`]: { said: {} },
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
    const kept = () => posted(asked).find((a) => a.path.endsWith("/corrections/names"));
    await vi.waitFor(() => expect(kept()!.body).toEqual({ ids: [1, 2], pattern }));
  });

  it("tells two kits apart, each with its constants and rules", async () => {
    const other = { ...kits.kits[0]!, name: "Fulmar 20, 900 × 700", kit: "Fulmar 20, 900 × 700" };
    const asked = server({
      [`GET ${HERE}/intake`]: intake,
      [`GET ${HERE}/kits`]: { kits: [...kits.kits, { ...other, setting: "", exposures: 3 }] },
      [`PUT ${HERE}/kits`]: { words: "changed" },
    });
    show(<IntakeBench />);
    fireEvent.click(await screen.findByRole("button", { name: /Fulmar 20/ }));
    const lasts = screen.getByLabelText("it lasts, days");
    expect(lasts.getAttribute("placeholder")).toBe("60");
    fireEvent.change(lasts, { target: { value: "20" } });
    fireEvent.blur(lasts);
    fireEvent.change(screen.getByLabelText("combined by"), { target: { value: "median" } });
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(2));
    const [days, way] = posted(asked).map((a) => a.body);
    expect(days).toEqual({ name: "Fulmar 20, 900 × 700", said: { ...SAID, lasts_days: 20 } });
    expect(way).toEqual({ name: "Fulmar 20, 900 × 700", said: { ...SAID, combine: "median" } });
  });

  it("sets target, catalogue, site and kit where they are left", async () => {
    const asked = server({
      [`GET ${HERE}/intake`]: intake,
      [`GET ${HERE}/kits`]: kits,
      [`PATCH ${HERE}`]: campaign(),
      [`PUT ${HERE}/kits`]: { words: "changed" },
    });
    show(<IntakeBench />);
    const height = await screen.findByLabelText("height, m");
    fireEvent.change(height, { target: { value: "155" } });
    fireEvent.blur(height);
    const gain = await screen.findByLabelText("gain, e⁻ an ADU");
    expect(screen.getByText("1.300 e⁻/ADU from the header (EGAIN)")).toBeTruthy();
    fireEvent.change(gain, { target: { value: "1.4" } });
    fireEvent.keyDown(gain, { key: "Enter" });
    const dec = screen.getByLabelText("declination");
    fireEvent.change(dec, { target: { value: "−12 30 00" } });
    fireEvent.blur(dec);
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(3));
    const [site, kit, target] = posted(asked).map((a) => a.body as Record<string, object>);
    expect(site).toEqual({ site: { ...campaign().site, elevation_m: 155 } });
    expect(kit).toEqual({ name: kits.kits[0]!.name, said: { ...SAID, gain_e_per_adu: 1.4 } });
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

describe("Correct", () => {
  const chain: Chain = {
    name: "60 s V",
    exposures: 6,
    stations: [
      {
        kind: "offset",
        words: "taken off: 14 darks, same night",
        master: "dark 60 s",
        master_id: null,
        remarks: [],
      },
      {
        kind: "flat",
        words: "divided by: 12 flats",
        master: "flat V",
        master_id: null,
        remarks: ["3 days old"],
      },
    ],
    missing: [],
    defects: 12,
    masters: ["dark 60 s"],
    left_out: ["flat"],
  };
  const offered: Options = {
    options: ["dark 60 s", "dark 30 s"].map((label) => ({
      step: "dark",
      key: label,
      label,
      words: "14 darks",
      remarks: label === "dark 30 s" ? ["half as long"] : [],
      picked: false,
      grade: label === "dark 30 s" ? "scaled" : "exact",
      fit: ["−10.0 °C", label.slice(5)],
      differs: label === "dark 30 s" ? "30 s for 60 s" : "",
    })),
    more: { bias: 0, dark: 36, flat: 0 },
  };
  const master = (id: number, kind: string): Master => ({
    id, label: kind, kind, filter: "", exposure_s: 60, temperature_c: -10, night: "2026-09-20",
    count: 14, level_adu: 312, clipped_share: 0.004, made_with: ["bias"], used: kind !== "bias",
    version: "", camera: "", combined: "mean within 4 σ of the median", frames: [],
  }); // prettier-ignore
  const correct: Correct = {
    chains: [chain],
    masters: [master(1, "bias"), master(2, "dark")],
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

  it("puts two masters of one kind side by side, until one is built anew", async () => {
    const flats = [3, 4].map((id) => ({ ...master(id, "flat"), label: `flat of night ${id}` }));
    server({ [`GET ${HERE}/correct`]: { ...correct, masters: flats } });
    useApp.setState({ master: 3 });
    show(<CorrectBench />);
    const look = () =>
      renderHook(() => useScene(DEFAULT_STRETCH, 0.5, null), {
        wrapper: ({ children }) => (
          <QueryClientProvider client={client}>{children}</QueryClientProvider>
        ),
      }).result.current.scene;
    fireEvent.click(await screen.findByText("Beside flat of night 4"));
    expect(look()).toMatchObject({
      shown: { kind: "masters", id: 3 },
      compare: { kind: "masters", id: 4 },
      names: ["flat of night 3", "flat of night 4"],
    });
    fireEvent.click(screen.getByText("Alone again"));
    expect(look().compare).toBeNull();
    act(() => useApp.setState({ master: 9 }));
    expect(look().shown).toMatchObject({ kind: "files", id: 2 });
  });

  it("takes another master, or does without one, and says which is doubtful", async () => {
    const asked = server({
      [`GET ${HERE}/correct`]: correct,
      [`GET ${HERE}/correct/options?chain=60%20s%20V`]: offered,
      [`POST ${HERE}/masters/pick`]: { words: "picked" },
    });
    show(<CorrectBench />);
    const dark = (await screen.findByLabelText("dark of this chain")) as HTMLSelectElement;
    expect([...dark.options].map((o) => o.text)).toEqual([
      "the best that fits",
      "dark 60 s: fits exactly",
      "dark 30 s: fits when scaled",
      "none: leave this step out",
    ]);
    // The one in use says in what it was compared, the other why it was not taken.
    expect(screen.getByText(": −10.0 °C, 60 s")).toBeTruthy();
    const others = screen.getByText("37 others were not taken").parentElement!.textContent;
    expect(others).toContain("dark 30 s: fits when scaled, 30 s for 60 s");
    expect(others).toContain("and 36 of nights farther away");
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

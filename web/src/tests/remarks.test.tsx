// @vitest-environment jsdom
/** What the program doubts, what comes next, and what becomes of a campaign. */
import { fireEvent, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Remark } from "../api/types";
import { useApp } from "../state";
import { CampaignMenu } from "../ui/CampaignMenu";
import { Next } from "../ui/Next";
import { Remarks } from "../ui/Remarks";
import { StageList } from "../ui/StageList";
import { nightsWords } from "../ui/words";
import { KitsSection } from "../stages/intake/KitsSection";
import { SetUp } from "../stages/intake/SetUp";
import { campaign } from "./builders";
import { HERE, serve, server, show, tidy, type Asked } from "./page";

const remark = (id: number, values: Partial<Remark> = {}): Remark => ({
  id,
  stage: "correct",
  about: "flat V",
  words: "dust moved",
  matters: "up to 12 mmag",
  remedy: "keep taking flats",
  seen: false,
  ...values,
});

beforeEach(() => useApp.setState({ campaign: 1 }));
afterEach(tidy);

describe("remarks", () => {
  it("say what they may cost and what can be done, until they were seen", async () => {
    const asked = server({ [`POST ${HERE}/remarks/seen`]: { words: "1 marked as seen." } });
    show(<Remarks remarks={[remark(1), remark(2, { words: "old bias", seen: true })]} />);
    expect(screen.getByText("Dust moved.")).toBeTruthy();
    expect(screen.getAllByText("up to 12 mmag")).toHaveLength(2);
    expect(screen.getAllByText("keep taking flats")).toHaveLength(2);
    expect(screen.getByText("1 of 2 new")).toBeTruthy();
    fireEvent.click(screen.getByText("seen"));
    await vi.waitFor(() =>
      expect(asked.at(-1)?.body ?? asked.find((a) => a.method === "POST")?.body).toBeTruthy(),
    );
    expect(asked.find((a) => a.method === "POST")?.body).toEqual({ ids: [1], seen: true });
  });

  it("are counted in the stage list beside what else is to be looked at", async () => {
    const stages = {
      correct: { state: "look" as const, count: 1, remarks: 2 },
      measure: { state: "todo" as const, remarks: 4 },
    };
    server({ [`GET ${HERE}`]: campaign({}, stages) });
    show(<StageList />);
    await vi.waitFor(() => expect(screen.getByText("Correct").textContent).toBe("Correct3"));
    expect(screen.getByText("Measure").textContent).toBe("Measure4");
    expect(screen.getByText("Vet").textContent).toBe("Vet");
  });
});

describe("the next thing to do", () => {
  const next = { stage: "intake", words: "Give a catalogue.", button: "Choose a file" };
  let asked: Asked[] = [];
  beforeEach(() => {
    asked = server({ [`POST ${HERE}/jobs`]: {}, [`PATCH ${HERE}`]: campaign() });
  });

  it("offers what lies at hand", async () => {
    const offers = [{ words: "field.vot, beside the night", catalogue_file: "/n/field.vot", cone_url: "" }]; // prettier-ignore
    show(<Next campaign={campaign({ next: { ...next, job: "", offers } })} />);
    fireEvent.click(screen.getByText("Use field.vot, beside the night"));
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "PATCH")?.body).toEqual({
        catalogue_file: "/n/field.vot",
      }),
    );
  });

  it("leads to where it is done, or begins it", async () => {
    useApp.setState({ stage: "curve" });
    const { rerender } = show(<Next campaign={campaign({ next: { ...next, job: "", offers: [] } })} />); // prettier-ignore
    fireEvent.click(screen.getByText("Choose a file"));
    expect(useApp.getState().stage).toBe("intake");
    rerender(<Next campaign={campaign({ next: { ...next, button: "Reduce", job: "reduce", offers: [] } })} />); // prettier-ignore
    fireEvent.click(screen.getByText("Reduce"));
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "POST")?.body).toEqual({ kind: "reduce" }),
    );
  });
});

describe("a campaign", () => {
  let asked: Asked[] = [];
  const named = { id: 1, name: "Foxglove 7", nights: ["2026-09-20"], archived: false };
  beforeEach(() => {
    asked = serve({
      "GET /api/state": {
        campaigns: [named, { ...named, id: 2, name: "Thrift 3", archived: true }],
        folders: [], cone_url: "", demo_folder: "", progress: null,
      },
      [`GET ${HERE}`]: campaign(),
      [`PATCH ${HERE}`]: campaign(),
      [`DELETE ${HERE}`]: { words: "Deleted Foxglove 7; no raw file was touched." },
    }); // prettier-ignore
  });
  const open = async () => {
    show(<CampaignMenu />);
    fireEvent.click(await screen.findByText("Foxglove 7"));
  };

  it("is renamed and archived", async () => {
    await open();
    fireEvent.click(await screen.findByText(/archived, 1/));
    expect(screen.getByText("Thrift 3")).toBeTruthy();
    const name = await screen.findByLabelText("name of this campaign");
    fireEvent.change(name, { target: { value: "Foxglove 7, autumn" } });
    fireEvent.click(screen.getByText("Rename"));
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "PATCH")?.body).toEqual({ name: "Foxglove 7, autumn" }),
    );
  });

  it("is deleted only after a second word", async () => {
    await open();
    fireEvent.click(await screen.findByText("Delete …"));
    expect(screen.getByText(/Raw files stay/)).toBeTruthy();
    expect(asked.some((a) => a.method === "DELETE")).toBe(false);
    fireEvent.click(screen.getByText("Delete Foxglove 7"));
    await vi.waitFor(() => expect(asked.some((a) => a.method === "DELETE")).toBe(true));
    await vi.waitFor(() => expect(useApp.getState().stage).toBe("intake"));
  });
});

describe("settings", () => {
  it("hold all that a plan can say, and the demo's service is offered to the demo alone", async () => {
    const asked = server({
      [`PATCH ${HERE}`]: campaign(),
      "GET /api/state": {
        campaigns: [], folders: [], cone_url: "http://127.0.0.1:1/cone", demo_folder: "/demo",
        progress: null,
      },
    }); // prettier-ignore
    show(
      <>
        <SetUp campaign={campaign({ catalogue: null })} />
        <KitsSection campaign={campaign()} />
      </>,
    );
    expect(screen.queryByText(/stand-in service/)).toBeNull();
    for (const label of ["filter, if none", "epoch, year"])
      expect(screen.getByText(label)).toBeTruthy();
    for (const what of ["the star catalogue", "the folder of earlier masters"])
      expect(screen.getByLabelText(`choose ${what}`)).toBeTruthy();
    fireEvent.change(screen.getByLabelText("header's time is"), { target: { value: "middle" } });
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "PATCH")?.body).toMatchObject({
        kit: { timestamp: "middle", gain_e_per_adu: 1.3 },
      }),
    );
  });

  it("name the band that stands for a filter", async () => {
    const asked = server({ [`PATCH ${HERE}`]: campaign() });
    show(<SetUp campaign={campaign({ filters: ["Clear"], bands: { Ha: "V" } })} />);
    fireEvent.change(screen.getByLabelText("Clear"), { target: { value: "V" } });
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "PATCH")?.body).toEqual({
        bands: { Ha: "V", Clear: "V" },
      }),
    );
  });
});

it("tells many nights by the first and the last", () => {
  expect(nightsWords(["2026-09-20"])).toBe("20 Sep");
  expect(nightsWords(["2026-09-20", "2026-09-21"])).toBe("20 Sep, 21 Sep");
  expect(nightsWords(["2026-09-20", "2026-09-21", "2026-10-01"])).toBe("3 nights, 20 Sep to 1 Oct");
  const long = ["2024-12-30", "2025-03-02", "2026-01-07"];
  expect(nightsWords(long)).toBe("3 nights, 30 Dec 2024 to 7 Jan");
});

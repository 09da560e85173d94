// @vitest-environment jsdom
import { act as rendered, cleanup, renderHook } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { giveRole, setAside, setRadius, startJob, undo } from "../api/actions";
import { get, ProblemError, send, upload } from "../api/client";
import { useEvents } from "../api/events";
import { act, client, foresee, recast, refresh } from "../api/queries";
import type { Campaign, Curve, Exposures, Progress } from "../api/types";
import { useApp } from "../state";
import { campaign, catalogue, curve, night } from "./builders";
import { Refusal, serve, tidy } from "./page";

afterEach(() => {
  vi.useRealTimers();
  tidy();
});

const said = () => useApp.getState().saying;

describe("asking the server", () => {
  it("turns a problem into words", async () => {
    serve({ "GET /api/x": new Refusal(409, "No curve yet", "Measure the night first.") });
    const error = await get("/api/x").catch((e: unknown) => e);
    expect(error).toBeInstanceOf(ProblemError);
    expect((error as ProblemError).status).toBe(409);
    expect((error as ProblemError).message).toBe("No curve yet. Measure the night first.");
  });

  it("says what to do where nothing answers, or something that is no answer", async () => {
    vi.stubGlobal("fetch", () => Promise.reject(new TypeError("refused")));
    await expect(get("/api/x")).rejects.toThrow("Is ./beacon start still running?");
    vi.stubGlobal("fetch", () =>
      Promise.resolve(new Response("<html>", { status: 502, statusText: "Bad Gateway" })),
    );
    await expect(get("/api/x")).rejects.toThrow("Bad Gateway");
  });

  it("sends a body as JSON, and files as a form", async () => {
    const asked = serve({ "POST /api/x": {}, "POST /api/up": {} });
    await send("POST", "/api/x", { a: 1 });
    await send("POST", "/api/x");
    const file = new File(["SIMPLE"], "one.fits");
    await upload("/api/up", [file] as unknown as FileList);
    expect(asked.slice(0, 2).map((a) => a.body)).toEqual([{ a: 1 }, undefined]);
    expect(((asked[2]!.body as FormData).get("files") as File).name).toBe("one.fits");
  });

  it("does one thing after the other, and goes on after one that failed", async () => {
    const order: string[] = [];
    let let_go = () => {};
    vi.stubGlobal("fetch", async (path: string) => {
      order.push(`begin ${path}`);
      if (path === "/slow") await new Promise<void>((done) => (let_go = done));
      order.push(`end ${path}`);
      const status = path === "/bad" ? 500 : 200;
      return new Response(JSON.stringify({ title: "Broken", ok: path }), { status });
    });
    const all = [act("POST", "/slow"), act("POST", "/bad"), act("POST", "/last")];
    await vi.waitFor(() => expect(order).toEqual(["begin /slow"]));
    let_go();
    expect(await Promise.all(all)).toEqual([
      { title: "Broken", ok: "/slow" },
      null,
      { title: "Broken", ok: "/last" },
    ]);
    expect(order.filter((o) => o.startsWith("begin"))).toEqual([
      "begin /slow",
      "begin /bad",
      "begin /last",
    ]);
    expect(said()).toMatchObject({ words: "Broken", tone: "trouble" });
  });
});

describe("a change of the cast or the radius", () => {
  it("shows the answer at once as the curve in force", async () => {
    const next = { ...curve([13, 13, 13]), cast: { ...campaign().cast!, comparison: [1] } };
    const asked = serve({ "POST /api/campaigns/1/cast": next });
    client.setQueryData(["campaign", 1, ""], campaign());
    await giveRole(campaign(), 2, "none");
    expect(asked[0]!.body).toEqual({ target: 0, comparison: [1], checks: [3] });
    expect(client.getQueryData<Curve>(["campaign", 1, "curve"])).toEqual(next);
    expect(client.getQueryData<Campaign>(["campaign", 1, ""])!.cast!.comparison).toEqual([1]);
  });

  it("does not fetch the curve again that was just answered, but all else", async () => {
    serve({ "POST /api/campaigns/1/recipe": { ...curve(), revision: 7 } });
    client.setQueryData(["campaign", 1, "exposures"], night(3));
    client.setQueryData(["campaign", 1, "log"], { entries: [] });
    await setRadius(1, "V", 6);
    const stale = (path: string) => client.getQueryState(["campaign", 1, path])!.isInvalidated;
    vi.useFakeTimers();
    refresh(1, 7);
    // What is large waits until no other change follows.
    expect([stale("curve"), stale("log"), stale("exposures")]).toEqual([false, true, false]);
    vi.advanceTimersByTime(1600);
    expect([stale("curve"), stale("exposures")]).toEqual([false, true]);
    // A later change, here or in another tab, however soon it comes.
    refresh(1, 8);
    expect(stale("curve")).toBe(true);
    vi.useRealTimers();
  });

  it("fetches the curve after any other action, such as an undo right behind", async () => {
    serve({ "POST /api/campaigns/1/recipe": curve(), "POST /api/campaigns/1/undo": { words: "" } });
    useApp.setState({ campaign: 1 });
    await setRadius(1, "V", 6);
    await undo();
    expect(client.getQueryState(["campaign", 1, "curve"])!.isInvalidated).toBe(true);
  });

  it("keeps the old curve where it is refused", async () => {
    serve({ "POST /api/campaigns/1/cast": new Refusal(422, "One star, two parts", "") });
    client.setQueryData(["campaign", 1, "curve"], curve());
    await recast(1, "cast", {});
    expect(client.getQueryData(["campaign", 1, "curve"])).toEqual(curve());
    expect(said()?.tone).toBe("trouble");
  });

  it("never leaves a curve without a target", async () => {
    const asked = serve({});
    await giveRole(campaign(), 0, "comparison");
    expect(asked).toEqual([]);
    expect(said()?.words).toContain("Every curve needs a target");
  });

  it("begins with the target, which is named and measured", async () => {
    const asked = serve({
      "GET /api/campaigns/1/stars": catalogue(),
      "PATCH /api/campaigns/1": campaign(),
      "POST /api/campaigns/1/jobs": {},
    });
    useApp.setState({ campaign: 1 });
    await giveRole(campaign({ cast: null }), 2, "check");
    expect(asked).toEqual([]);
    expect(said()?.words).toContain("Give the part of the target first");
    await giveRole(campaign({ cast: null }), 2, "target");
    expect(asked.map((a) => a.body)).toEqual([
      undefined,
      { target_name: "Foxglove 12" },
      { kind: "census" },
    ]);
  });
});

describe("setting aside", () => {
  it("is seen before the server has answered", () => {
    client.setQueryData(["campaign", 1, "exposures"], night(3));
    useApp.setState({ campaign: 1 });
    serve({ "POST /api/campaigns/1/aside": { words: "set aside 1 exposure" } });
    void setAside([2], true, "haze");
    const shown = client.getQueryData<Exposures>(["campaign", 1, "exposures"])!.exposures;
    expect(shown.map((e) => e.aside)).toEqual(["", "haze", ""]);
    foresee(1, [2], { aside: "", aside_by: "" });
    const again = client.getQueryData<Exposures>(["campaign", 1, "exposures"])!.exposures;
    expect(again[1]!.aside).toBe("");
  });

  it("asks nothing without a campaign", async () => {
    const asked = serve({});
    await setAside([2], true);
    await startJob("sort");
    expect(asked).toEqual([]);
  });
});

/** An event source that the test speaks through. */
class Source {
  static last: Source;
  onmessage: (message: { data: string }) => void = () => {};
  onerror: () => void = () => {};
  closed = false;
  constructor(readonly url: string) {
    Source.last = this;
  }
  close(): void {
    this.closed = true;
  }
  tell(event: object): void {
    rendered(() => this.onmessage({ data: JSON.stringify(event) }));
  }
}

describe("what the server tells by itself", () => {
  const progress = { job: 3, campaign: 1, words: "measuring", done: 4, total: 9 } as Progress;

  function listen(): Source {
    vi.useFakeTimers();
    vi.stubGlobal("EventSource", Source);
    renderHook(() => useEvents());
    client.setQueryData(["campaign", 1, "exposures"], night(3));
    return Source.last;
  }
  const stale = () => client.getQueryState(["campaign", 1, "exposures"])!.isInvalidated;

  it("moves the progress, and ends it with the job", () => {
    const source = listen();
    source.tell({ kind: "progress", progress });
    expect(useApp.getState().progress).toEqual(progress);
    source.tell({ kind: "job", job: 3, campaign: 1, state: "failed", words: "No dark." });
    expect(useApp.getState().progress).toBeNull();
    expect(said()).toMatchObject({ words: "No dark.", tone: "trouble" });
    source.tell({ kind: "job", job: 3, campaign: 1, state: "cancelled" });
    expect(said()?.words).toContain("What was done is kept");
  });

  it("gathers changes that follow one another", () => {
    const source = listen();
    const fetched = vi.spyOn(client, "invalidateQueries");
    for (let n = 0; n < 4; n++) {
      source.tell({ kind: "changed", campaign: 1 });
      vi.advanceTimersByTime(100);
    }
    expect(stale()).toBe(false);
    vi.advanceTimersByTime(1000);
    expect(stale()).toBe(true);
    // Once for the campaign, once for the list of campaigns.
    expect(fetched).toHaveBeenCalledTimes(2);
  });

  it("looks at everything anew after the connection was lost", () => {
    const source = listen();
    rendered(() => source.onerror());
    expect(useApp.getState().away).toContain("No connection to the server");
    source.tell({ kind: "hello", progress: null });
    expect(useApp.getState().away).toBe("");
    expect(stale()).toBe(true);
  });

  it("says so while the records are away, until something moves again or they are back", () => {
    const source = listen();
    source.tell({ kind: "database", away: true });
    expect(useApp.getState().away).toContain("goes on by itself");
    source.tell({ kind: "progress", progress });
    expect(useApp.getState().away).toBe("");
    source.tell({ kind: "database", away: true });
    source.tell({ kind: "database", away: false });
    expect(useApp.getState().away).toBe("");
  });

  it("is no longer listened to by a page that was left", () => {
    const source = listen();
    cleanup();
    expect(source.closed).toBe(true);
  });
});

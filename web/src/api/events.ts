import { useEffect } from "react";
import { say, useApp } from "../state";
import { client, refresh } from "./queries";
import type { Progress } from "./types";

type Event =
  | { kind: "hello"; progress: Progress | null }
  | { kind: "progress"; progress: Progress }
  | { kind: "job"; job: number; campaign: number; job_kind: string; state: string; words?: string }
  | { kind: "changed"; campaign: number; revision?: number }
  | { kind: "catalogues" }
  | { kind: "database"; away: boolean };

const RECORDS_AWAY =
  "The records (MariaDB) do not answer. Nothing is lost; work waits and goes on by itself.";

/** Changes that follow one another are fetched together, so that they do not slow each other. */
const GATHER_MS = 350;

/** Listens to the server: progress, finished jobs, what another tab changed. */
export function useEvents(): void {
  useEffect(() => {
    const source = new EventSource("/api/events");
    const waiting = new Map<number, ReturnType<typeof setTimeout>>();
    const newest = new Map<number, number>();
    let lost = false;

    const changed = (campaign: number, revision = Infinity) => {
      newest.set(campaign, Math.max(newest.get(campaign) ?? 0, revision));
      clearTimeout(waiting.get(campaign));
      waiting.set(
        campaign,
        setTimeout(() => {
          refresh(campaign, newest.get(campaign));
          newest.delete(campaign);
        }, GATHER_MS),
      );
    };
    source.onmessage = (message: MessageEvent<string>) => {
      const event = JSON.parse(message.data) as Event;
      const { setProgress, setAway } = useApp.getState();
      switch (event.kind) {
        case "hello":
          setProgress(event.progress);
          setAway("");
          if (lost) void client.invalidateQueries();
          lost = false;
          break;
        case "progress":
          setProgress(event.progress);
          setAway("");
          break;
        case "job":
          if (event.state !== "waiting") setProgress(null);
          if (event.state === "done" && event.words) say(event.words);
          if (event.state === "failed") say(event.words ?? "The job failed.", "trouble");
          if (event.state === "cancelled") say("Stopped. What was done is kept.");
          changed(event.campaign);
          break;
        case "changed":
          changed(event.campaign, event.revision);
          break;
        case "catalogues": {
          void client.invalidateQueries({ queryKey: ["catalogues"] });
          const here = useApp.getState().campaign;
          if (here !== null) changed(here);
          break;
        }
        case "database":
          if (!event.away && useApp.getState().away) void client.invalidateQueries();
          setAway(event.away ? RECORDS_AWAY : "");
          break;
      }
    };
    source.onerror = () => {
      lost = true;
      useApp.getState().setAway("No connection to the server. Is ./beacon start still running?");
    };
    return () => {
      source.close();
      waiting.forEach(clearTimeout);
    };
  }, []);
}

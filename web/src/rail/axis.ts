/** The rail's axis in pixels, shared by everything that is drawn over time. */
import { useMemo } from "react";
import { useExposures } from "../api/queries";
import type { Exposure } from "../api/types";
import { useApp } from "../state";
import { onceEach } from "../ui/once";
import { timelineOf, toAxis, type Timeline } from "./timeline";

/** Room for labels left of the axis and air right of it; every time chart keeps to them. */
export const INSET_LEFT = 58;
export const INSET_RIGHT = 14;

export interface Axis {
  timeline: Timeline;
  domain: [number, number];
  clock: "ut" | "jd";
  exposures: Exposure[];
  /** Place of each exposure on the axis in hours, by its number. */
  hours: Map<number, number>;
  /** Nothing is known of the night yet. */
  loading: boolean;
}

export function useAxis(): Axis {
  const campaign = useApp((s) => s.campaign);
  const domain = useApp((s) => s.domain);
  const clock = useApp((s) => s.clock);
  const { data, isPending } = useExposures(campaign);
  return useMemo(() => {
    const exposures = data?.exposures ?? NONE;
    const { timeline, hours } = placesOf(exposures);
    return {
      timeline,
      domain: domain ?? [0, timeline.hours],
      clock,
      exposures,
      hours,
      loading: isPending,
    };
  }, [data, domain, clock, isPending]);
}

const NONE: Exposure[] = [];

/** Where exposures lie, worked out once for all that is drawn over time, however it is zoomed. */
const placesOf = onceEach((exposures: readonly Exposure[]) => {
  const timeline = timelineOf(exposures.map((e) => ({ jd: e.jd_utc, night: e.night })));
  const hours = new Map(exposures.map((e) => [e.id, toAxis(timeline, e.jd_utc)]));
  return { timeline, hours };
});

export function toPixel(domain: [number, number], hours: number, width: number): number {
  const room = width - INSET_LEFT - INSET_RIGHT;
  return INSET_LEFT + ((hours - domain[0]) / (domain[1] - domain[0])) * room;
}

export function toHours(domain: [number, number], pixel: number, width: number): number {
  const room = width - INSET_LEFT - INSET_RIGHT;
  return domain[0] + ((pixel - INSET_LEFT) / room) * (domain[1] - domain[0]);
}

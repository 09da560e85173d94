import { useState } from "react";
import { importMasters, retireMaster, saveSettings } from "../api/actions";
import { useCampaign, useShelf } from "../api/queries";
import type { ShelfMaster } from "../api/types";
import { SmallPicture } from "../plate/SmallPicture";
import { useApp } from "../state";
import { Button } from "./Button";
import { PathField } from "./Field";
import { dayOf, fixed, plural, seconds } from "./words";

const KINDS = [
  ["bias", "Bias"],
  ["dark", "Darks"],
  ["flat dark", "Darks for flats"],
  ["flat", "Flats"],
] as const;

/** The observatory's masters of all nights, by kit and kind, the newest first. */
export function Shelf() {
  const { data } = useShelf();
  const { data: campaign } = useCampaign(useApp((s) => s.campaign));
  const [wanted, setWanted] = useState("");
  if (!data) return null;
  const shown = data.masters.filter((m) => fits(m, wanted));
  const kits = [...new Set(shown.map((m) => m.kit))].sort();
  return (
    <>
      {campaign && (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={campaign.shelf}
            onChange={(event) => void saveSettings({ shelf: event.target.checked })}
          />
          {campaign.name} takes bias and darks of other campaigns too, where they fit
        </label>
      )}
      <div className="flex items-center gap-4">
        <input
          className="field max-w-80"
          aria-label="search the shelf"
          placeholder="Search: dark 60 s, V, October, a campaign"
          value={wanted}
          onChange={(event) => setWanted(event.target.value)}
        />
        <span className="text-quiet">
          {wanted ? `${shown.length} of ${data.masters.length}` : plural(shown.length, "master")}
        </span>
        <span className="ml-auto">
          <PathField
            label="made elsewhere"
            what="a master that was made elsewhere"
            files="masters"
            none="FITS"
            value=""
            onSave={(path) => void importMasters(path)}
          />
        </span>
      </div>
      {!data.masters.length && (
        <p className="text-quiet">No masters yet. Build those of a night in Correct.</p>
      )}
      <div className="min-h-0 overflow-y-auto" tabIndex={0} aria-label="shelf">
        {kits.map((kit) => (
          <section key={kit} aria-label={kit}>
            <h3 className="num mt-1 mb-1 font-semibold">{kit}</h3>
            <div className="flex flex-wrap gap-x-8 border-t border-line pt-1.5">
              {KINDS.map(([kind, words]) => {
                const own = shown.filter((m) => m.kit === kit && m.kind === kind);
                if (!own.length) return null;
                return (
                  <div key={kind} className="mb-3 max-w-full">
                    <p className="mb-1.5 text-quiet">
                      {words} · {own.length}
                    </p>
                    <div className="flex flex-wrap gap-x-4 gap-y-3">
                      {own.map((master) => (
                        <Card key={master.id} master={master} />
                      ))}
                    </div>
                  </div>
                );
              })}
            </div>
          </section>
        ))}
      </div>
    </>
  );
}

/** Whether a master has all of some words: kind, filter, seconds, night, settings, campaign. */
export function fits(master: ShelfMaster, wanted: string): boolean {
  const { label, kind, campaign, kit, settings, night, retired } = master;
  const told = [
    label,
    kind,
    campaign,
    kit,
    settings,
    night && dayOf(night),
    night && new Date(night).toLocaleString("en", { month: "long" }),
    retired ? "retired" : "",
  ];
  const text = told.join(" ").toLowerCase();
  return wanted
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word.replace("-", "−")) || text.includes(word));
}

function Card({ master }: { master: ShelfMaster }) {
  const flat = master.kind === "flat";
  const what = [
    master.filter,
    master.kind.includes("dark") ? seconds(master.exposure_s) : "",
    !flat && master.temperature_c != null ? fixed(master.temperature_c, 0, "°C") : "",
  ].filter(Boolean);
  return (
    <figure className={`w-[156px] ${master.retired ? "opacity-50" : ""}`}>
      <SmallPicture
        shown={{ kind: "masters", id: master.id, off: "", version: master.version }}
        width={132}
      />
      <figcaption className="mt-1">
        <span className="num block truncate" title={`${master.label} · ${master.campaign}`}>
          {what.join(" ") || master.kind}
          <span className="text-quiet"> {master.night ? dayOf(master.night) : "no date"}</span>
        </span>
        <span className="num block text-small text-quiet">
          {plural(master.count, "frame")}, {age(master.age_days)}
          {master.clipped_share > 0.0005 && `, ${fixed(100 * master.clipped_share, 1)}% clipped`}
        </span>
        <span className="num block text-small text-quiet">
          {fixed(master.level_adu, 0)} ADU
          {master.noise_adu != null &&
            (flat
              ? ` ±${fixed(100 * master.noise_adu, 2)}%`
              : ` ±${fixed(master.noise_adu, 1)} a pixel`)}
        </span>
        {master.settings && (
          <span className="num block truncate text-small text-quiet">{master.settings}</span>
        )}
        <span className="mt-0.5 flex gap-2 text-small">
          <span className="truncate text-quiet" title={master.campaign}>
            {master.own ? `of ${master.campaign}` : master.used ? "in use" : "not used"}
          </span>
          <a
            className="ml-auto hover:text-beam"
            href={`/api/shelf/${master.id}/file`}
            title="Save it as FITS, with what went into it"
          >
            save
          </a>
          {!flat && (
            <Button
              quiet
              className="px-0! py-0!"
              title={
                master.retired
                  ? "Let other campaigns take it again"
                  : "Let other campaigns take it no more; its own keeps it"
              }
              onClick={() => void retireMaster(master.id, !master.retired)}
            >
              {master.retired ? "take again" : "retire"}
            </Button>
          )}
        </span>
      </figcaption>
    </figure>
  );
}

function age(days: number | null | undefined): string {
  if (days == null) return "of unknown age";
  if (days <= 0) return "tonight";
  return days === 1 ? "1 day" : `${days} days`;
}

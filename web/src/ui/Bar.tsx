import { Popover } from "radix-ui";
import { useState } from "react";
import { redo, stopJob, undo } from "../api/actions";
import { useAppState, useCampaign } from "../api/queries";
import { useApp, type Look } from "../state";
import { Button } from "./Button";
import { NewCampaign } from "./NewCampaign";
import { dayOf, duration } from "./words";

const LOOKS: { key: Look; words: string }[] = [
  { key: "night", words: "night" },
  { key: "day", words: "day" },
  { key: "red", words: "red lamp" },
];

export function Bar() {
  const campaignId = useApp((s) => s.campaign);
  const look = useApp((s) => s.look);
  const set = useApp((s) => s.set);
  const { data: campaign } = useCampaign(campaignId);
  return (
    <header className="col-span-3 flex items-center gap-4 border-b border-line bg-panel px-3">
      <span className="flex items-center gap-2 font-semibold">
        <svg width="14" height="18" viewBox="0 0 14 18" aria-hidden>
          <path d="M7 0h1.6v18H7z" fill="var(--beam)" />
          <path d="M0 18 7 5v13z" fill="var(--beam)" opacity=".5" />
        </svg>
        Narrow Beacon
      </span>
      <CampaignMenu />
      <span className="text-quiet">
        {campaign?.nights.length
          ? `nights ${campaign.nights.map((n) => dayOf(n.evening)).join(", ")}`
          : ""}
      </span>
      <span className="ml-auto" />
      <JobProgress />
      <Button
        quiet
        disabled={!campaign?.undo}
        title={campaign?.undo ? `Undo: ${campaign.undo} (Ctrl+Z)` : "Nothing to undo"}
        onClick={() => void undo()}
      >
        Undo
      </Button>
      {campaign?.redo && (
        <Button quiet title={`Again: ${campaign.redo} (Ctrl+Shift+Z)`} onClick={() => void redo()}>
          Again
        </Button>
      )}
      <Button
        quiet
        disabled={!campaign}
        title="What was done (L)"
        onClick={() => set({ sheet: "log" })}
      >
        Log
      </Button>
      <select
        aria-label="look"
        className="field w-auto! py-0.5!"
        value={look}
        onChange={(event) => set({ look: event.target.value as Look })}
      >
        {LOOKS.map(({ key, words }) => (
          <option key={key} value={key}>
            {words}
          </option>
        ))}
      </select>
      <Button quiet title="All keys (?)" onClick={() => set({ sheet: "keys" })}>
        ?
      </Button>
    </header>
  );
}

function CampaignMenu() {
  const { data } = useAppState();
  const campaign = useApp((s) => s.campaign);
  const set = useApp((s) => s.set);
  const [open, setOpen] = useState(false);
  const [making, setMaking] = useState(false);
  const name = data?.campaigns.find((c) => c.id === campaign)?.name ?? "no campaign";
  return (
    <>
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger className="rounded-[3px] px-1.5 py-0.5 hover:bg-raised">
          {name} <span className="text-quiet">▾</span>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            align="start"
            sideOffset={6}
            className="z-30 min-w-56 rounded-[3px] border border-line bg-panel py-1"
          >
            {data?.campaigns.map((c) => (
              <button
                key={c.id}
                className={`block w-full px-3 py-1 text-left hover:bg-raised ${c.id === campaign ? "text-beam" : ""}`}
                onClick={() => {
                  set({
                    campaign: c.id,
                    beam: null,
                    star: null,
                    selection: [],
                    domain: null,
                    master: null,
                  });
                  setOpen(false);
                }}
              >
                {c.name}
                <span className="num ml-2 text-quiet">{c.nights.map(dayOf).join(", ")}</span>
              </button>
            ))}
            <button
              className="block w-full border-t border-line px-3 py-1 text-left hover:bg-raised"
              onClick={() => {
                setMaking(true);
                setOpen(false);
              }}
            >
              New campaign …
            </button>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {making && <NewCampaign onClose={() => setMaking(false)} />}
    </>
  );
}

function JobProgress() {
  const progress = useApp((s) => s.progress);
  if (!progress) return null;
  const share = progress.total ? progress.done / progress.total : 0;
  const circle = 2 * Math.PI * 6;
  return (
    <span className="flex items-center gap-2" role="status" data-testid="progress">
      <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden>
        <circle cx="8" cy="8" r="6" fill="none" stroke="var(--line)" strokeWidth="2" />
        <circle
          cx="8"
          cy="8"
          r="6"
          fill="none"
          stroke="var(--beam)"
          strokeWidth="2"
          strokeDasharray={`${circle * (progress.total ? share : 0.25)} ${circle}`}
          transform="rotate(-90 8 8)"
          className={progress.total ? "" : "origin-center turning"}
        />
      </svg>
      <span>
        {progress.words}
        <span className="num">
          {progress.total > 0 && ` ${progress.done}/${progress.total}`}
          {progress.left_s !== null &&
            progress.left_s !== undefined &&
            ` · ${duration(progress.left_s)}`}
          {progress.rate > 0 && (
            <span className="text-quiet"> · {progress.rate.toFixed(1)} a second</span>
          )}
        </span>
      </span>
      <Button quiet onClick={() => void stopJob(progress.job)}>
        Stop
      </Button>
    </span>
  );
}

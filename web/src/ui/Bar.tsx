import { redo, stopJob, turnTo, undo } from "../api/actions";
import { useCampaign } from "../api/queries";
import type { Campaign } from "../api/types";
import { useApp, type Look } from "../state";
import { Button } from "./Button";
import { CampaignMenu } from "./CampaignMenu";
import { duration, nightsWords } from "./words";

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
      {campaign && campaign.targets.length > 1 && <TargetInFront campaign={campaign} />}
      <span className="text-quiet">
        {campaign ? nightsWords(campaign.nights.map((n) => n.evening)) : ""}
      </span>
      {campaign?.watch.watching && <Watching campaign={campaign} />}
      <span className="ml-auto" />
      <JobProgress />
      <Button
        quiet
        disabled={!campaign?.undo}
        title={campaign?.undo ? `Undo: ${named(campaign.undo)} (Ctrl+Z)` : "Nothing to undo"}
        onClick={() => void undo()}
      >
        Undo
      </Button>
      {campaign?.redo && (
        <Button
          quiet
          title={`Again: ${named(campaign.redo)} (Ctrl+Shift+Z)`}
          onClick={() => void redo()}
        >
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

/** Which of the field's targets the screens are about. */
function TargetInFront({ campaign }: { campaign: Campaign }) {
  const front = campaign.targets.find((t) => t.in_front);
  return (
    <select
      aria-label="target in front"
      className="field w-auto! max-w-40 py-0.5!"
      value={front?.place}
      onChange={(event) => void turnTo(campaign.id, Number(event.target.value))}
    >
      {campaign.targets.map(({ place, name }) => (
        <option key={place} value={place}>
          {name || `target ${place + 1}`}
        </option>
      ))}
    </select>
  );
}

/** The night as it comes: the last exposure, and quietly what is worse about it. */
function Watching({ campaign }: { campaign: Campaign }) {
  const set = useApp((s) => s.set);
  const { last, worse, file_id } = campaign.watch;
  return (
    <button
      className={`min-w-0 truncate ${worse.length ? "text-beam" : "text-quiet"}`}
      title={worse.join("; ") || "Folders are watched; Intake ends it"}
      disabled={file_id == null}
      onClick={() => set({ beam: file_id ?? undefined })}
    >
      {last ? `live · ${last.slice(11, 16)}` : "live · waiting for files"}
      {worse.length > 0 && ` · ${worse.join("; ")}`}
    </button>
  );
}

const named = (action: NonNullable<Campaign["undo"]>) =>
  action.words + (action.elsewhere ? ", done in another tab or earlier" : "");

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

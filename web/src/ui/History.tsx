import { useJobs, useLog } from "../api/queries";
import type { JobList, Log } from "../api/types";
import { useApp } from "../state";
import { clockUtc, dayOf, plural } from "./words";

/** What was done, and the long work that went on: newest first. */
export function History() {
  const campaign = useApp((s) => s.campaign);
  const { data: log } = useLog(campaign);
  const { data: jobs } = useJobs(campaign);
  return (
    <div className="grid min-h-0 grid-cols-2 gap-6">
      <section className="min-h-0 overflow-y-auto" aria-label="actions" tabIndex={0}>
        <h3 className="mb-1 font-semibold">Actions</h3>
        {log && !log.entries.length && <p className="text-quiet">Nothing was changed yet.</p>}
        {log?.entries.map((entry) => (
          <Action key={entry.id} entry={entry} />
        ))}
      </section>
      <section className="min-h-0 overflow-y-auto" aria-label="long work" tabIndex={0}>
        <h3 className="mb-1 font-semibold">Long work</h3>
        {jobs?.jobs.map((job) => (
          <Work key={job.id} job={job} />
        ))}
      </section>
    </div>
  );
}

const moment = (iso: string) => `${dayOf(iso)} ${clockUtc(iso).slice(0, 5)}`;

function Action({ entry }: { entry: Log["entries"][number] }) {
  return (
    <p className="flex gap-3 border-t border-line py-1">
      <span className="num shrink-0 text-quiet">{moment(entry.at)}</span>
      <span className={entry.undone ? "text-quiet line-through" : ""}>{entry.words}</span>
      {entry.undone && <span className="ml-auto shrink-0 text-quiet">undone</span>}
    </p>
  );
}

const KINDS: Record<string, string> = {
  sort: "sort the files",
  masters: "build the masters",
  place: "place the exposures",
  census: "measure all stars",
  settle: "look again what to set aside",
  reduce: "reduce all of it",
  live: "take in what came",
};
const STATES: Record<string, { words: string; tone: string }> = {
  waiting: { words: "waits", tone: "text-quiet" },
  running: { words: "at work", tone: "text-beam" },
  done: { words: "done", tone: "text-quiet" },
  cancelled: { words: "stopped", tone: "text-quiet" },
  failed: { words: "failed", tone: "text-trouble" },
};

function Work({ job }: { job: JobList["jobs"][number] }) {
  const state = STATES[job.state] ?? { words: job.state, tone: "text-quiet" };
  return (
    <div className="border-t border-line py-1">
      <p className="flex gap-3">
        <span className="num shrink-0 text-quiet">{moment(job.created)}</span>
        <span>{KINDS[job.kind] ?? job.kind}</span>
        <span className={`ml-auto shrink-0 ${state.tone}`}>{state.words}</span>
      </p>
      {job.words && <p className="text-small text-quiet">{job.words}</p>}
      {job.log && (
        <details className="text-small">
          <summary className="cursor-pointer text-beam">for whoever mends it</summary>
          <pre className="num overflow-x-auto pl-3 text-quiet" tabIndex={0}>
            {job.log}
          </pre>
        </details>
      )}
      {job.failures.length > 0 && (
        <details className="text-small">
          <summary className="cursor-pointer text-beam">
            {plural(job.failures.length, "file")} with a remark
          </summary>
          {job.failures.map((words) => (
            <p key={words} className="pl-3 text-quiet">
              {words}
            </p>
          ))}
        </details>
      )}
    </div>
  );
}

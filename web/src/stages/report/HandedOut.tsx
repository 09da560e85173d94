import { useState } from "react";
import { markSent } from "../../api/actions";
import type { ReportPage } from "../../api/types";
import { Button } from "../../ui/Button";
import { clockUtc, dayOf, plural } from "../../ui/words";

type Report = ReportPage["reports"][number];

const RAW = "bundle with raw files";
const SCOPES: Record<string, string> = { new: ", only new ones", changed: ", a correction" };

/** A report that was exported: its files, whether it was sent and to whom, what changed since. */
export function HandedOut({ report }: { report: Report }) {
  const [open, setOpen] = useState(false);
  const [to, setTo] = useState(report.recipient);
  const [note, setNote] = useState(report.note);
  async function keep(): Promise<void> {
    if (await markSent(report.id, { recipient: to.trim(), note: note.trim() })) setOpen(false);
  }
  return (
    <div className="border-t border-line py-1.5 first:border-t-0">
      <p className="flex">
        <span>
          {plural(report.points, "point")}
          {SCOPES[report.scope]}
        </span>
        <span className="num ml-auto text-quiet">
          {dayOf(report.created)} {clockUtc(report.created).slice(0, 5)} UT
        </span>
      </p>
      {report.other && (
        <p className="text-small text-quiet">of {report.star}, not of the target now</p>
      )}
      {report.changed > 0 && (
        <p className="text-small text-beam">{report.changed} of them differ now.</p>
      )}
      {report.sent && !open && (
        <p className="text-small">
          sent to {report.recipient}, {dayOf(report.sent)}
          {report.note && <span className="text-quiet">: {report.note}</span>}
        </p>
      )}
      {open ? (
        <div className="my-1 flex flex-col gap-1.5">
          <input
            className="field"
            aria-label="sent to"
            placeholder="sent to; empty: not sent"
            value={to}
            onChange={(event) => setTo(event.target.value)}
          />
          <input
            className="field"
            aria-label="receipt or note"
            placeholder="receipt or note"
            value={note}
            onChange={(event) => setNote(event.target.value)}
          />
          <span className="flex gap-2">
            <Button onClick={() => void keep()}>Keep it</Button>
            <Button quiet onClick={() => setOpen(false)}>
              Leave it
            </Button>
          </span>
        </div>
      ) : (
        <button className="text-small text-quiet hover:text-ink" onClick={() => setOpen(true)}>
          {report.sent ? "Change that …" : "Mark as sent …"}
        </button>
      )}
      <p className="flex flex-wrap gap-x-3 text-small">
        {[...report.files.filter((name) => name.includes(".")), "bundle.zip", RAW].map((name) => (
          <a
            key={name}
            className="text-quiet underline decoration-line underline-offset-2 hover:text-beam"
            href={
              name === RAW
                ? `/api/reports/${report.id}/bundle.zip?raw=true`
                : `/api/reports/${report.id}/${encodeURIComponent(name)}`
            }
            title={name === RAW ? "With it, ./beacon reduce plan.toml gives the same numbers" : ""}
            download
          >
            {name}
          </a>
        ))}
      </p>
    </div>
  );
}

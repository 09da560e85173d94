import { useState } from "react";
import { act, refresh, useCampaign, useReport } from "../api/queries";
import type { ReportPage } from "../api/types";
import { say, useApp } from "../state";
import { saveSettings } from "../api/actions";
import { Button } from "../ui/Button";
import { Choice, PathField } from "../ui/Field";
import { Chips, Empty, Section } from "../ui/parts";
import { clockUtc, dayOf, plural } from "../ui/words";

function useReady() {
  const id = useApp((s) => s.campaign);
  const { data: campaign } = useCampaign(id);
  const ready = campaign?.stages.find((s) => s.key === "report")?.state !== "waiting";
  const report = useReport(id, campaign !== undefined && ready);
  return { id, campaign, ready, ...report };
}

export function ReportMain() {
  const { campaign, ready, data, error } = useReady();
  if (!campaign) return null;
  if (!ready || error || !data)
    return (
      <Empty title="Nothing to hand in yet">
        <p>{error?.message ?? campaign.stages.find((s) => s.key === "report")?.words}</p>
      </Empty>
    );
  const lines = data.preview.split("\n");
  return (
    <div className="flex h-full flex-col">
      <p className="border-b border-line px-4 py-2">
        As it will be handed in: layout <strong className="font-semibold">{data.layout}</strong>,{" "}
        {plural(data.lines, "line")}.
      </p>
      <pre
        className="num min-h-0 flex-1 overflow-auto px-4 py-2 leading-[17px]"
        data-testid="preview"
        tabIndex={0}
        role="region"
        aria-label="the report as it will be handed in"
      >
        {lines.map((line, i) => (
          <span
            key={i}
            // Words of the header are broken where they must be; columns stay columns.
            className={
              line.startsWith("#") ? "block break-words whitespace-pre-wrap text-quiet" : ""
            }
          >
            {line}
            {!line.startsWith("#") && "\n"}
          </span>
        ))}
      </pre>
    </div>
  );
}

const SIGNS = {
  good: { sign: "✓", tone: "text-quiet" },
  look: { sign: "!", tone: "text-beam" },
  stop: { sign: "×", tone: "text-trouble" },
};

export function ReportBench() {
  const { id, data, campaign } = useReady();
  const [busy, setBusy] = useState(false);
  if (!data || id === null) return null;
  const stopped = data.checks.some((check) => check.state === "stop");

  async function hand(): Promise<void> {
    setBusy(true);
    const made = await act<ReportPage["reports"][number]>("POST", `/api/campaigns/${id}/report`);
    setBusy(false);
    if (!made) return;
    say(`${made.points} points exported with all tables and the figure.`);
    refresh(id!);
  }

  return (
    <>
      <Section title="Before it goes out">
        <ul>
          {data.checks.map((check) => (
            <li key={check.words} className="flex gap-2 py-0.5">
              <span
                className={`num w-3 shrink-0 ${SIGNS[check.state].tone}`}
                aria-label={check.state}
              >
                {SIGNS[check.state].sign}
              </span>
              <span>{check.words}</span>
            </li>
          ))}
        </ul>
        <Button main className="mt-2" disabled={stopped || busy} onClick={() => void hand()}>
          {busy ? "Exporting …" : "Export the report"}
        </Button>
      </Section>
      <Section title="Points">
        <Chips
          label="points that go out"
          value={campaign?.doubtful ? "all" : "good"}
          onChange={(key) => void saveSettings({ doubtful: key === "all" })}
          options={[
            { key: "good", words: "good ones" },
            { key: "all", words: "doubtful ones too" },
          ]}
        />
      </Section>
      <Section title="Layout">
        <Choice
          label="comes along"
          value={data.layouts.includes(campaign?.layout ?? "") ? campaign!.layout : ""}
          options={[
            ...(data.layouts.includes(campaign?.layout ?? "")
              ? []
              : ([["", "a file of yours"]] as const)),
            ...data.layouts.map((name) => [name, name] as const),
          ]}
          onSave={(layout) => layout && void saveSettings({ layout })}
        />
        <PathField
          label="or a file"
          what="a layout"
          files="layout"
          none="none"
          value={campaign?.layout.includes("/") ? campaign.layout : ""}
          onSave={(layout) => void saveSettings({ layout: layout || "plain" })}
          clear
        />
      </Section>
      <Section title="Handed out" aside={String(data.reports.length)}>
        {!data.reports.length && (
          <p className="text-quiet">Nothing yet. Every export is kept here with its files.</p>
        )}
        {data.reports.map((report) => (
          <div key={report.id} className="border-t border-line py-1.5 first:border-t-0">
            <p className="flex">
              <span>{plural(report.points, "point")}</span>
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
            <p className="flex flex-wrap gap-x-3 text-small">
              {report.files
                .filter((name) => name.includes("."))
                .map((name) => (
                  <a
                    key={name}
                    className="text-quiet underline decoration-line underline-offset-2 hover:text-beam"
                    href={`/api/reports/${report.id}/${encodeURIComponent(name)}`}
                    download
                  >
                    {name}
                  </a>
                ))}
            </p>
          </div>
        ))}
      </Section>
    </>
  );
}

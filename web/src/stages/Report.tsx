import { useState } from "react";
import { deleteLayout, saveSettings, sayOfReports } from "../api/actions";
import { act, refresh, useCampaign, useReport } from "../api/queries";
import type { ReportPage } from "../api/types";
import { say, useApp } from "../state";
import { Button } from "../ui/Button";
import { Choice, Field, PathField } from "../ui/Field";
import { Chips, Empty, Section } from "../ui/parts";
import { plural } from "../ui/words";
import { Changes } from "./report/Changes";
import { HandedOut } from "./report/HandedOut";
import { LayoutEditor } from "./report/LayoutEditor";
import { useReportView } from "./report/view";

function useReady() {
  const id = useApp((s) => s.campaign);
  const { data: campaign } = useCampaign(id);
  const ready = campaign?.stages.find((s) => s.key === "report")?.state !== "waiting";
  const report = useReport(id, campaign !== undefined && ready);
  return { id, campaign, ready, ...report };
}

export function ReportMain() {
  const { campaign, ready, data, error } = useReady();
  const view = useReportView((v) => v.view);
  if (!campaign) return null;
  if (ready && !error && !data) return <p className="p-4 text-quiet">Writing the report …</p>;
  if (!ready || error || !data)
    return (
      <Empty title="Nothing to hand in yet">
        <p>{error?.message ?? campaign.stages.find((s) => s.key === "report")?.words}</p>
      </Empty>
    );
  if (view === "layout") return <LayoutEditor />;
  return (
    <div className="flex h-full flex-col">
      <div className="flex items-center gap-4 border-b border-line px-4 py-2">
        <p className="min-w-0 truncate">
          {view === "changes"
            ? `${plural(data.changes.length, "point")} that went out ${data.changes.length === 1 ? "is" : "are"} otherwise now.`
            : `As it will be handed in: layout “${data.layout}”, ${plural(data.points, "point")}.`}
        </p>
        {(data.changes.length > 0 || view === "changes") && (
          <span className="ml-auto shrink-0">
            <Chips
              label="what is shown"
              value={view}
              onChange={(key) => useReportView.setState({ view: key })}
              options={[
                { key: "preview", words: "the report" },
                { key: "changes", words: `changes, ${data.changes.length}` },
              ]}
            />
          </span>
        )}
      </div>
      {view === "changes" ? <Changes changes={data.changes} /> : <Preview text={data.preview} />}
    </div>
  );
}

function Preview({ text }: { text: string }) {
  return (
    <pre
      className="num min-h-0 flex-1 overflow-auto px-4 py-2 leading-[17px]"
      data-testid="preview"
      tabIndex={0}
      role="region"
      aria-label="the report as it will be handed in"
    >
      {text.split("\n").map((line, i) => (
        <span
          key={i}
          // Words of the header are broken where they must be; columns stay columns.
          className={line.startsWith("#") ? "block break-words whitespace-pre-wrap text-quiet" : ""}
        >
          {line}
          {!line.startsWith("#") && "\n"}
        </span>
      ))}
    </pre>
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
        <p className="mt-2 text-quiet">
          A night sheet for a colleague:{" "}
          {["pdf", "html"].map((kind) => (
            <a
              key={kind}
              className="mr-2 underline decoration-line underline-offset-2 hover:text-beam"
              href={`/api/campaigns/${id}/sheet.${kind}`}
              target="_blank"
              rel="noreferrer"
            >
              {kind.toUpperCase()}
            </a>
          ))}
        </p>
      </Section>
      <Section title="Points">
        <div className="flex flex-col gap-2">
          <Chips
            label="points that go out"
            value={campaign?.doubtful ? "all" : "good"}
            onChange={(key) => void saveSettings({ doubtful: key === "all" })}
            options={[
              { key: "good", words: "good ones" },
              { key: "all", words: "doubtful ones too" },
            ]}
          />
          <Chips
            label="which of them"
            value={data.scope as "all" | "new" | "changed"}
            onChange={(scope) => void sayOfReports({ scope })}
            options={[
              { key: "all", words: "all" },
              { key: "new", words: "only new" },
              { key: "changed", words: "only changed" },
            ]}
          />
          <Held held={data.held} />
        </div>
      </Section>
      <Section title="Layout">
        {data.about && <p className="mb-1.5 text-quiet">{data.about}</p>}
        <Choice
          label="in use"
          value={data.layouts.some((l) => l.key === campaign?.layout) ? campaign!.layout : ""}
          options={[
            ...(data.layouts.some((l) => l.key === campaign?.layout)
              ? []
              : ([["", "a file of yours"]] as const)),
            ...data.layouts.map((l) => [l.key, l.own ? `${l.name}, yours` : l.name] as const),
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
        {data.fields.map((field) => (
          <Field
            key={field.name}
            label={field.name.replaceAll("_", " ")}
            value={field.value}
            hint={field.usual || "the layout asks for it"}
            onSave={(value) => void sayOfReports({ fields: { [field.name]: value } })}
          />
        ))}
        <div className="mt-1.5 flex gap-2">
          <Button onClick={() => useReportView.setState({ view: "layout", draft: null, name: "" })}>
            Write one of your own
          </Button>
          {campaign?.layout.startsWith("kept:") && (
            <Button quiet onClick={() => void deleteLayout(campaign.layout.slice(5))}>
              Delete it
            </Button>
          )}
        </div>
      </Section>
      <Section title="Handed out" aside={String(data.reports.length)}>
        {!data.reports.length && (
          <p className="text-quiet">Nothing yet. Every export is kept here with its files.</p>
        )}
        {data.reports.map((report) => (
          <HandedOut key={report.id} report={report} />
        ))}
      </Section>
    </>
  );
}

/** Points that are held back: the chosen ones can be, and all can go out again. */
function Held({ held }: { held: number[] }) {
  const selection = useApp((s) => s.selection);
  if (!held.length && selection.length < 2) return null;
  return (
    <div className="flex flex-wrap items-center gap-2">
      {held.length > 0 && (
        <span className="text-quiet">{plural(held.length, "point")} held back</span>
      )}
      {selection.length > 1 && (
        <Button onClick={() => void sayOfReports({ held: [...held, ...selection] })}>
          Hold the {selection.length} chosen back
        </Button>
      )}
      {held.length > 0 && (
        <Button quiet onClick={() => void sayOfReports({ held: [] })}>
          Let them go out
        </Button>
      )}
    </div>
  );
}

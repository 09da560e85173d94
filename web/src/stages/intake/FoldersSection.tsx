import { useState } from "react";
import { saveSettings, startJob } from "../../api/actions";
import { upload } from "../../api/client";
import { refresh } from "../../api/queries";
import type { Campaign } from "../../api/types";
import { say, useApp } from "../../state";
import { Button } from "../../ui/Button";
import { FolderPicker } from "../../ui/FolderPicker";
import { Section } from "../../ui/parts";
import { plural } from "../../ui/words";

/** Where the files come from, and the one button that does all of it. */
export function FoldersSection({ campaign, files }: { campaign: Campaign; files: number }) {
  const set = useApp((s) => s.set);
  const [adding, setAdding] = useState("");
  const stage = campaign.stages.find((s) => s.key === "intake");
  const measured = campaign.stages.find((s) => s.key === "measure")?.state === "done";
  const ready = stage?.state === "done" || (stage?.state === "look" && campaign.catalogue);
  return (
    <Section title="Folders" aside={plural(files, "file")}>
      <ul className="mb-2">
        {campaign.folders.map((folder) => (
          <li key={folder} className="flex items-center gap-1.5">
            <span className="num min-w-0 flex-1 truncate" dir="rtl" title={folder}>
              <bdi>{folder}</bdi>
            </span>
            <button
              className="shrink-0 px-1 text-quiet hover:text-ink"
              aria-label={`take out ${folder}`}
              title="Take this folder out; nothing in it is touched, and undo brings it back"
              onClick={() =>
                void saveSettings({ folders: campaign.folders.filter((f) => f !== folder) })
              }
            >
              ×
            </button>
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap gap-2">
        {ready && (
          <Button onClick={() => set({ stage: measured ? "curve" : "correct" })}>
            {measured ? "See the curve" : "Step by step: Correct"}
          </Button>
        )}
        <Button onClick={() => setAdding(adding ? "" : "open")}>Add a folder</Button>
        <Button onClick={() => void startJob("sort")}>Look again</Button>
        <label className="button">
          Upload
          <input
            type="file"
            multiple
            className="sr-only"
            onChange={(event) => {
              if (!event.target.files?.length) return;
              const count = event.target.files.length;
              say(`Taking in ${plural(count, "file")} …`);
              upload(`/api/campaigns/${campaign.id}/upload`, event.target.files)
                .then(() => {
                  say(`${plural(count, "file")} taken in.`);
                  refresh(campaign.id);
                })
                .catch((error: Error) => say(error.message, "trouble"));
            }}
          />
        </label>
      </div>
      <label className="mt-2 flex items-start gap-2">
        <input
          type="checkbox"
          className="mt-0.5"
          checked={campaign.watch.watching}
          onChange={(event) => void saveSettings({ watching: event.target.checked })}
        />
        <span>
          Watch: take files in as they are written
          {campaign.watch.watching && (
            <span className="block text-small text-quiet">
              {campaign.watch.last
                ? `last exposure ${campaign.watch.last.slice(11, 19)} UTC`
                : "no exposure yet"}
              . Measured once more, all alike, when you end it.
            </span>
          )}
        </span>
      </label>
      {adding && (
        <div className="mt-2 flex flex-col gap-2">
          <FolderPicker onPick={(path) => setAdding(path)} />
          <Button
            disabled={adding === "open"}
            onClick={() => {
              void saveSettings({ folders: [...campaign.folders, adding] });
              setAdding("");
            }}
          >
            Add it
          </Button>
        </div>
      )}
    </Section>
  );
}

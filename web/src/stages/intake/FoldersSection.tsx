import { useState } from "react";
import { startJob } from "../../api/actions";
import { upload } from "../../api/client";
import { act, refresh } from "../../api/queries";
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
          <li key={folder} className="num truncate" dir="rtl" title={folder}>
            <bdi>{folder}</bdi>
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap gap-2">
        {ready && !measured && (
          <Button main onClick={() => void startJob("reduce")}>
            Reduce all of it
          </Button>
        )}
        {ready && (
          <Button main={measured} onClick={() => set({ stage: measured ? "curve" : "correct" })}>
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
      {adding && (
        <div className="mt-2 flex flex-col gap-2">
          <FolderPicker start="" onPick={(path) => setAdding(path)} />
          <Button
            disabled={adding === "open"}
            onClick={() => {
              void act("PATCH", `/api/campaigns/${campaign.id}`, {
                folders: [...campaign.folders, adding],
              }).then(() => refresh(campaign.id));
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

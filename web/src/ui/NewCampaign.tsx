import { useState } from "react";
import { act, client, refresh } from "../api/queries";
import type { Campaign } from "../api/types";
import { useApp } from "../state";
import { Button } from "./Button";
import { FolderPicker } from "./FolderPicker";
import { Sheet } from "./Sheet";

/** A campaign begins with a name and a folder; a plan beside the files fills in the rest. */
export function NewCampaign({ onClose }: { onClose: () => void }) {
  const set = useApp((s) => s.set);
  const [name, setName] = useState("");
  const [single, setSingle] = useState(false);
  const [folder, setFolder] = useState<{ path: string; hasPlan: boolean } | null>(null);

  async function make(reduce: boolean): Promise<void> {
    const made = await act<Campaign>("POST", "/api/campaigns", {
      name: name.trim() || folder?.path.split("/").pop() || "New campaign",
      folders: folder ? [folder.path] : [],
      reduce,
    });
    if (!made) return;
    await client.invalidateQueries({ queryKey: ["state"] });
    refresh(made.id);
    set({
      campaign: made.id,
      stage: single ? "vet" : "intake",
      beam: null,
      star: null,
      selection: [],
      domain: null,
      master: null,
    });
    onClose();
  }

  return (
    <Sheet title="New campaign" width={560} onClose={onClose}>
      <label className="flex items-center gap-3">
        <span className="w-16 shrink-0 text-quiet">name</span>
        <input
          className="field"
          placeholder="the target, as you call it"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </label>
      <div className="flex items-center gap-2">
        {[false, true].map((one) => (
          <Button
            key={String(one)}
            aria-pressed={single === one}
            onClick={() => (setSingle(one), setFolder(null))}
          >
            {one ? "A single exposure" : "A night"}
          </Button>
        ))}
        <span className="text-quiet">
          {single
            ? "To look at it: its stars can be pointed at at once."
            : "Its folder, with everything mixed: exposures, bias, darks, flats."}
        </span>
      </div>
      <FolderPicker
        key={String(single)}
        files={single ? "exposures" : undefined}
        onPick={(path, hasPlan) => setFolder({ path, hasPlan })}
      />
      {folder && (
        <p className="num text-small">
          {folder.path}
          {folder.hasPlan && (
            <span className="text-beam">
              {" "}
              · with a plan: target, catalogue and kit are taken from it
            </span>
          )}
        </p>
      )}
      <div className="flex gap-2">
        <Button main disabled={!folder} onClick={() => void make(false)}>
          {single ? "Open it" : "Sort this folder"}
        </Button>
        {folder?.hasPlan && <Button onClick={() => void make(true)}>Reduce all of it</Button>}
        <Button quiet onClick={onClose}>
          Not now
        </Button>
      </div>
    </Sheet>
  );
}

import { Popover } from "radix-ui";
import { useState } from "react";
import { deleteCampaign, saveSettings } from "../api/actions";
import { signOut } from "../api/client";
import { client, useAppState } from "../api/queries";
import type { AppState } from "../api/types";
import { useApp } from "../state";
import { Button } from "./Button";
import { NewCampaign } from "./NewCampaign";
import { nightsWords } from "./words";

type Named = AppState["campaigns"][number];

const NOTHING_CHOSEN = { beam: null, star: null, selection: [], domain: null, master: null };

/** The campaigns of the observatory, and what can be done with the one that is open. */
export function CampaignMenu() {
  const { data } = useAppState();
  const campaign = useApp((s) => s.campaign);
  const [open, setOpen] = useState(false);
  const [making, setMaking] = useState(false);
  const here = data?.campaigns.find((c) => c.id === campaign);
  const close = () => setOpen(false);
  return (
    <>
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger className="max-w-64 truncate rounded-[3px] px-1.5 py-0.5 hover:bg-raised">
          {here?.name ?? "no campaign"} <span className="text-quiet">▾</span>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            align="start"
            sideOffset={6}
            aria-label="campaigns"
            className="z-30 max-h-[80vh] w-80 overflow-y-auto rounded-[3px] border border-line bg-panel py-1"
          >
            <List campaigns={data?.campaigns.filter((c) => !c.archived) ?? []} onDone={close} />
            <button
              className="block w-full border-t border-line px-3 py-1 text-left hover:bg-raised"
              onClick={() => {
                setMaking(true);
                close();
              }}
            >
              New campaign …
            </button>
            {here && <Own key={here.id} campaign={here} onDone={close} />}
            <Archive campaigns={data?.campaigns.filter((c) => c.archived) ?? []} onDone={close} />
            <button
              className="block w-full border-t border-line px-3 py-1 text-left text-quiet hover:bg-raised"
              title="This browser needs a new address from ./beacon start then, or the password"
              onClick={() => void signOut().then(() => location.assign("/"))}
            >
              Sign out
            </button>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {making && <NewCampaign onClose={() => setMaking(false)} />}
    </>
  );
}

function List({ campaigns, onDone }: { campaigns: Named[]; onDone: () => void }) {
  const campaign = useApp((s) => s.campaign);
  const set = useApp((s) => s.set);
  return campaigns.map((c) => (
    <button
      key={c.id}
      className={`flex w-full gap-2 px-3 py-1 text-left hover:bg-raised ${c.id === campaign ? "text-beam" : ""}`}
      onClick={() => {
        set({ campaign: c.id, ...NOTHING_CHOSEN });
        onDone();
      }}
    >
      <span className="min-w-0 truncate">{c.name}</span>
      <span className="num ml-auto shrink-0 text-quiet">{nightsWords(c.nights)}</span>
    </button>
  ));
}

function Archive({ campaigns, onDone }: { campaigns: Named[]; onDone: () => void }) {
  if (!campaigns.length) return null;
  return (
    <details className="border-t border-line py-1">
      <summary className="cursor-pointer px-3 text-quiet">archived, {campaigns.length}</summary>
      <List campaigns={campaigns} onDone={onDone} />
    </details>
  );
}

/** Rename, archive and delete: raw files are touched by none of it. */
function Own({ campaign, onDone }: { campaign: Named; onDone: () => void }) {
  const [name, setName] = useState(campaign.name);
  const [sure, setSure] = useState(false);
  const set = useApp((s) => s.set);

  async function save(values: { name?: string; archived?: boolean }): Promise<void> {
    await saveSettings(values, campaign.id);
    await client.invalidateQueries({ queryKey: ["state"] });
    onDone();
  }

  async function remove(): Promise<void> {
    if (!(await deleteCampaign(campaign.id))) return;
    const left = client.getQueryData<AppState>(["state"])?.campaigns.find((c) => !c.archived);
    set({ campaign: left?.id ?? null, stage: "intake", ...NOTHING_CHOSEN });
    onDone();
  }

  return (
    <section className="border-t border-line px-3 py-2" aria-label="this campaign">
      <form
        className="flex gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim()) void save({ name: name.trim() });
        }}
      >
        <input
          aria-label="name of this campaign"
          className="field"
          value={name}
          maxLength={120}
          onChange={(event) => setName(event.target.value)}
        />
        <Button
          type="submit"
          className="shrink-0"
          disabled={!name.trim() || name.trim() === campaign.name}
        >
          Rename
        </Button>
      </form>
      <div className="mt-2 flex gap-2">
        <Button onClick={() => void save({ archived: !campaign.archived })}>
          {campaign.archived ? "Take out of the archive" : "Archive"}
        </Button>
        <Button aria-expanded={sure} onClick={() => setSure(!sure)}>
          Delete …
        </Button>
      </div>
      {sure && (
        <div className="mt-2 border-l-2 border-trouble pl-2">
          <p className="mb-1.5">
            Its records, masters, censuses and exports go for good. Raw files stay, and so do files
            that were uploaded.
          </p>
          <Button className="border-trouble! text-trouble" onClick={() => void remove()}>
            Delete {campaign.name}
          </Button>
        </div>
      )}
    </section>
  );
}

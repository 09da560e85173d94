import { useState } from "react";
import { useCampaign, useIntake } from "../api/queries";
import { useApp } from "../state";
import { saveSettings } from "../api/actions";
import { Button } from "../ui/Button";
import { FolderPicker } from "../ui/FolderPicker";
import { NewCampaign } from "../ui/NewCampaign";
import { Empty } from "../ui/parts";
import { useChoice } from "./intake/choice";
import { CorrectionForm } from "./intake/CorrectionForm";
import { Files } from "./intake/Files";
import { FoldersSection } from "./intake/FoldersSection";
import { KitsSection } from "./intake/KitsSection";
import { NamesForm } from "./intake/NamesForm";
import { SetUp } from "./intake/SetUp";
import { Stacks } from "./intake/Stacks";

export function IntakeMain() {
  const campaign = useApp((s) => s.campaign);
  const { data } = useIntake(campaign);
  const [making, setMaking] = useState(false);
  if (campaign !== null && data && !data.files.length) return <FirstFolder />;
  if (campaign === null)
    return (
      <>
        <Empty title="Point to the folder of a night">
          <p>
            Exposures, bias, darks and flats may lie mixed: they are sorted by what their headers
            say. Raw files are only read, never changed.
          </p>
          <Button main className="self-start" onClick={() => setMaking(true)}>
            Choose a folder …
          </Button>
        </Empty>
        {making && <NewCampaign onClose={() => setMaking(false)} />}
      </>
    );
  if (!data) return null;
  return (
    <div className="flex h-full flex-col">
      <Stacks stacks={data.stacks} missing={data.missing} />
      <Files files={data.files} />
    </div>
  );
}

/** A campaign that has no files yet: its first folder is chosen here. */
function FirstFolder() {
  const { data: campaign } = useCampaign(useApp((s) => s.campaign));
  const [picked, setPicked] = useState("");
  if (!campaign) return null;
  return (
    <Empty title="Point to the folder of a night">
      <p>
        Exposures, bias, darks and flats may lie mixed: they are sorted by what their headers say.
        Raw files are only read, never changed.
      </p>
      <FolderPicker onPick={(path) => setPicked(path)} />
      <Button
        main
        className="self-start"
        disabled={!picked}
        onClick={() => void saveSettings({ folders: [...campaign.folders, picked] })}
      >
        Add this folder
      </Button>
    </Empty>
  );
}

export function IntakeBench() {
  const id = useApp((s) => s.campaign);
  const { data: campaign } = useCampaign(id);
  const { data } = useIntake(id);
  const chosen = useChoice((s) => s.chosen);
  if (!campaign || !data) return null;
  const files = data.files.filter((f) => chosen.has(f.id));
  return (
    <>
      {files.length > 0 ? (
        <>
          <CorrectionForm key={files.map((f) => f.id).join()} files={files} />
          <NamesForm files={files} />
        </>
      ) : (
        <FoldersSection campaign={campaign} files={data.files.length} />
      )}
      <SetUp key={campaign.id} campaign={campaign} />
      <KitsSection key={`kits ${campaign.id}`} campaign={campaign} />
    </>
  );
}

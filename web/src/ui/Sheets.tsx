import { useOrigin } from "../api/queries";
import { say, useApp } from "../state";
import { Button } from "./Button";
import { Catalogues } from "./catalogues/Catalogues";
import { History } from "./History";
import { KeyList } from "./Keys";
import { Origin, originText } from "./Origin";
import { Sheet } from "./Sheet";
import { Shelf } from "./Shelf";
import { Transfer } from "./Transfer";
import { shortName } from "./words";

/** The sheet that lies over the page, if any. */
export function Sheets() {
  const sheet = useApp((s) => s.sheet);
  const set = useApp((s) => s.set);
  const close = () => set({ sheet: null });
  switch (sheet) {
    case "keys":
      return (
        <Sheet title="Keys" width={460} onClose={close}>
          <KeyList />
        </Sheet>
      );
    case "log":
      return (
        <Sheet
          title={
            <>
              What was done <span className="font-normal text-quiet">times in UT</span>
            </>
          }
          width={760}
          onClose={close}
        >
          <History />
        </Sheet>
      );
    case "shelf":
      return (
        <Sheet title="Shelf: masters of all nights" width={860} onClose={close}>
          <Shelf />
        </Sheet>
      );
    case "catalogues":
      return (
        <Sheet title="Catalogues of the observatory" width={860} onClose={close}>
          <Catalogues />
        </Sheet>
      );
    case "transfer":
      return (
        <Sheet title="Photon transfer" width={760} onClose={close}>
          <Transfer />
        </Sheet>
      );
    case "origin":
      return <OriginSheet onClose={close} />;
    default:
      return null;
  }
}

function OriginSheet({ onClose }: { onClose: () => void }) {
  const campaign = useApp((s) => s.campaign);
  const beam = useApp((s) => s.beam);
  const { data, error } = useOrigin(campaign, beam);
  const copy = () =>
    void navigator.clipboard.writeText(originText(data!)).then(
      () => say("Copied."),
      () => say("The browser does not let the page copy.", "trouble"),
    );
  return (
    <Sheet title={`Origin of ${data ? shortName(data.name) : "…"}`} width={830} onClose={onClose}>
      {error && <p className="text-trouble">{error.message}</p>}
      {data && (
        <>
          <Origin origin={data} />
          <Button className="self-start" onClick={copy}>
            Copy as text
          </Button>
        </>
      )}
    </Sheet>
  );
}

import { useState } from "react";
import { addCatalogue } from "../../api/actions";
import { useApp } from "../../state";
import { Button } from "../Button";
import { Field, PathField, Row } from "../Field";
import { ColumnTable } from "./ColumnTable";
import type { Meaning } from "./meaning";

type Kind = "file" | "service";
type Role = "stars" | "variables";

/** A catalogue to add: a file or a service, of stars or of known variables, with its columns. */
export function AddCatalogue({ onDone }: { onDone: () => void }) {
  const campaign = useApp((s) => s.campaign);
  const [kind, setKind] = useState<Kind>("file");
  const [role, setRole] = useState<Role>("stars");
  const [place, setPlace] = useState("");
  const [name, setName] = useState("");
  const [epoch, setEpoch] = useState("");
  const [said, setSaid] = useState<Meaning>({});
  const at = (next: string) => {
    setPlace(next);
    setSaid({});
  };
  const add = async () => {
    const epoch_yr = epoch ? Number(epoch) : null;
    if (await addCatalogue({ kind, role, place, name, columns: said, epoch_yr })) onDone();
  };
  // A service is asked for a few stars where the open campaign is.
  const looks = place !== "" && (kind === "file" || campaign !== null);
  return (
    <>
      <div className="grid grid-cols-2 gap-x-8">
        <Row label="it is">
          <Either value={kind} of={["file", "service"]} onPick={(k) => (setKind(k), at(""))} />
        </Row>
        <Row label="of">
          <Either
            value={role}
            of={["stars", "variables"]}
            words={{ variables: "known variables" }}
            onPick={setRole}
          />
        </Row>
        {kind === "file" ? (
          <PathField
            label="file"
            what="a catalogue file"
            files="catalogue"
            none="VOTable, ECSV, CSV or FITS"
            value={place}
            onSave={at}
          />
        ) : (
          <Field label="address" value={place} hint="http://…" onSave={at} />
        )}
        <Field label="called" value={name} hint="its file's or host's name" onSave={setName} />
        <Field label="epoch, year" value={epoch} hint="2000, or as told" onSave={setEpoch} />
      </div>
      {looks && <ColumnTable look={{ kind, role, place, campaign }} said={said} onSay={setSaid} />}
      <div className="flex items-center gap-3">
        <Button main disabled={!place} onClick={() => void add()}>
          {kind === "file" ? "Make it an atlas" : "Take the service"}
        </Button>
        <Button quiet onClick={onDone}>
          Leave it
        </Button>
        <span className="text-small text-quiet">
          {kind === "file"
            ? "The file is read once, at any size; it is never changed."
            : "What it sends is kept by cells of the sky and serves without network."}
        </span>
      </div>
    </>
  );
}

function Either<T extends string>(props: {
  value: T;
  of: readonly T[];
  words?: Partial<Record<T, string>>;
  onPick: (value: T) => void;
}) {
  return (
    <span className="flex gap-1">
      {props.of.map((one) => (
        <Button
          key={one}
          aria-pressed={props.value === one}
          className="py-0.5!"
          onClick={() => props.onPick(one)}
        >
          {props.words?.[one] ?? one}
        </Button>
      ))}
    </span>
  );
}

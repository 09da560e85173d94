import { useState, type ReactNode } from "react";
import { FolderPicker } from "./FolderPicker";
import { Sheet } from "./Sheet";
import { shortName } from "./words";

export function Row({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="flex items-center gap-2 py-0.5">
      <span className="w-28 shrink-0 text-quiet">{label}</span>
      {children}
    </label>
  );
}

/** Takes effect when it is left or with Enter. */
export function Field(props: {
  label: string;
  value: string;
  hint?: string;
  onSave: (v: string) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const shown = text ?? props.value;
  const keep = () => {
    if (text !== null && text.trim() !== props.value) props.onSave(text.trim());
    setText(null);
  };
  return (
    <Row label={props.label}>
      <input
        className="field num"
        value={shown}
        placeholder={props.hint}
        onChange={(event) => setText(event.target.value)}
        onBlur={keep}
        onKeyDown={(event) => event.key === "Enter" && keep()}
      />
    </Row>
  );
}

/** One of a few words. */
export function Choice(props: {
  label: string;
  value: string;
  options: readonly (readonly [string, string])[];
  onSave: (v: string) => void;
}) {
  return (
    <Row label={props.label}>
      <select
        className="field"
        value={props.value}
        onChange={(event) => props.onSave(event.target.value)}
      >
        {props.options.map(([key, words]) => (
          <option key={key} value={key}>
            {words}
          </option>
        ))}
      </select>
    </Row>
  );
}

/** A file or folder on the machine of the program: shown by its name, chosen from a list. */
export function PathField(props: {
  label: string;
  value: string;
  none: string;
  files?: "catalogue" | "layout" | "defects" | "masters" | "exposures";
  /** What it is called where it is chosen: "the star catalogue". */
  what: string;
  onSave: (path: string) => void;
  clear?: boolean;
}) {
  const [open, setOpen] = useState(false);
  const [picked, setPicked] = useState("");
  return (
    <div className="flex items-center gap-2 py-0.5">
      <span className="w-28 shrink-0 text-quiet">{props.label}</span>
      <span className="num min-w-0 flex-1 truncate" title={props.value}>
        {props.value ? shortName(props.value) : <span className="text-quiet">{props.none}</span>}
      </span>
      {props.clear && props.value && (
        <button
          className="text-quiet hover:text-ink"
          aria-label={`without ${props.what}`}
          title={`Do without ${props.what}`}
          onClick={() => props.onSave("")}
        >
          ×
        </button>
      )}
      <button
        className="rounded-[3px] border border-line bg-raised px-2 hover:border-quiet"
        aria-label={`choose ${props.what}`}
        onClick={() => setOpen(true)}
      >
        …
      </button>
      {open && (
        <Sheet title={`Choose ${props.what}`} width={560} onClose={() => setOpen(false)}>
          <FolderPicker files={props.files} onPick={(path) => setPicked(path)} />
          <div className="flex items-center gap-2">
            <button
              className="rounded-[3px] border border-beam bg-beam px-2.5 py-1 font-semibold text-ground disabled:opacity-45"
              disabled={!picked}
              onClick={() => {
                props.onSave(picked);
                setOpen(false);
              }}
            >
              Take it
            </button>
            <span className="num min-w-0 truncate text-small text-quiet" title={picked}>
              {picked}
            </span>
          </div>
        </Sheet>
      )}
    </div>
  );
}

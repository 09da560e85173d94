import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get } from "../api/client";
import type { Folders } from "../api/types";
import { plural } from "./words";

interface Props {
  start: string;
  onPick: (path: string, hasPlan: boolean) => void;
}

/** The folders that the program may read; a typed path works as well. */
export function FolderPicker({ start, onPick }: Props) {
  const [path, setPath] = useState("");
  const [typed, setTyped] = useState("");
  const { data, error } = useQuery({
    queryKey: ["folders", path],
    queryFn: () => get<Folders>(`/api/folders?path=${encodeURIComponent(path)}`),
    retry: false,
  });
  const go = (next: string, hasPlan: boolean) => {
    setPath(next);
    setTyped(next);
    if (next) onPick(next, hasPlan);
  };
  return (
    <div className="flex min-h-0 flex-col gap-1.5">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          go(typed.trim(), false);
        }}
      >
        <input
          aria-label="path of the folder"
          className="field num"
          placeholder={start ? `a path, such as ${start}` : "a path, or choose below"}
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
      </form>
      {error && <p className="text-trouble">{error.message}</p>}
      <ul className="max-h-48 min-h-24 overflow-auto rounded-[3px] border border-line">
        {path && (
          <li>
            <button
              className="block w-full px-2 py-1 text-left text-quiet hover:bg-raised"
              onClick={() => go(data?.parent ?? "", false)}
            >
              ↑ up
            </button>
          </li>
        )}
        {data?.folders.map((folder) => (
          <li key={folder.path}>
            <button
              className="flex w-full px-2 py-1 text-left hover:bg-raised"
              onClick={() => go(folder.path, folder.has_plan)}
            >
              {path ? folder.name : folder.path}
              <span className="num ml-auto text-quiet">
                {folder.has_plan && "plan · "}
                {folder.files ? plural(folder.files, "file") : ""}
              </span>
            </button>
          </li>
        ))}
        {data && path && !data.folders.length && (
          <li className="px-2 py-1 text-quiet">
            No folders in it; {plural(data.files, "file")} here.
          </li>
        )}
      </ul>
    </div>
  );
}

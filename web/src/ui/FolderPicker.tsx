import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get } from "../api/client";
import type { Folders } from "../api/types";
import { plural } from "./words";

interface Props {
  onPick: (path: string, hasPlan: boolean) => void;
  /** Files to choose from, in place of folders. */
  files?: "catalogue" | "layout" | "defects" | "masters" | "exposures";
}

/** The folders that the program may read, or files in them; a typed path works as well. */
export function FolderPicker({ onPick, files }: Props) {
  const [path, setPath] = useState("");
  const [typed, setTyped] = useState("");
  const { data, error } = useQuery({
    queryKey: ["folders", path, files],
    queryFn: () =>
      get<Folders>(`/api/folders?path=${encodeURIComponent(path)}&files=${files ?? ""}`),
    retry: false,
  });
  const go = (next: string, hasPlan: boolean) => {
    setPath(next);
    setTyped(next);
    if (next && !files) onPick(next, hasPlan);
  };
  const pick = (file: string) => {
    setTyped(file);
    onPick(file, false);
  };
  return (
    <div className="flex min-h-0 flex-col gap-1.5">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          const text = typed.trim();
          if (files && text) pick(text);
          else go(text, false);
        }}
      >
        <input
          aria-label={files ? "path of the file" : "path of the folder"}
          className="field num"
          placeholder="a path, or choose below"
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
              <span className={files ? "text-quiet" : ""}>
                {path ? folder.name : folder.path}
                {files && "/"}
              </span>
              <span className="num ml-auto text-quiet">
                {folder.has_plan && !files && "plan · "}
                {folder.files ? plural(folder.files, "file") : ""}
              </span>
            </button>
          </li>
        ))}
        {data?.named.map((file) => (
          <li key={file.path}>
            <button
              className="block w-full px-2 py-1 text-left hover:bg-raised"
              onClick={() => pick(file.path)}
            >
              {file.name}
            </button>
          </li>
        ))}
        {data && path && !data.folders.length && !data.named.length && (
          <li className="px-2 py-1 text-quiet">
            {files
              ? `No ${files} in it; ${plural(data.files, "file")} of other kinds.`
              : `No folders in it; ${plural(data.files, "file")} here.`}
          </li>
        )}
      </ul>
    </div>
  );
}

import { useEffect } from "react";
import { useApp } from "../state";

const SHOWN_MS = 4500;

/** What was just done, or went wrong, above the rail; connection trouble stays until it is over. */
export function Saying() {
  const saying = useApp((s) => s.saying);
  const away = useApp((s) => s.away);
  const film = useApp((s) => s.film);
  const set = useApp((s) => s.set);
  useEffect(() => {
    if (!saying || saying.tone === "trouble") return;
    const timer = setTimeout(() => set({ saying: null }), SHOWN_MS);
    return () => clearTimeout(timer);
  }, [saying, set]);
  if (!saying && !away) return null;
  const trouble = away || saying?.tone === "trouble";
  return (
    <div
      role={trouble ? "alert" : "status"}
      className={`absolute ${film ? "bottom-[196px]" : "bottom-[124px]"} left-1/2 z-20 flex max-w-2xl -translate-x-1/2 gap-3 rounded-[3px] border bg-raised px-3 py-1.5 ${
        trouble ? "border-trouble" : "border-line"
      }`}
    >
      <span>{away || saying?.words}</span>
      {!away && (
        <button className="text-quiet hover:text-ink" onClick={() => set({ saying: null })}>
          close
        </button>
      )}
    </div>
  );
}

import { useEffect, useState } from "react";
import { setAside } from "../api/actions";
import { useExposures } from "../api/queries";
import { REASONS } from "../stages/vet/reasons";
import { useApp } from "../state";
import { plural, shortName } from "./words";

const ASKED_MS = 6000;

/** Why was it set aside? Asked in passing, answered with one key or not at all. */
export function Asked() {
  const asked = useApp((s) => s.asked);
  const set = useApp((s) => s.set);
  const { data } = useExposures(useApp((s) => s.campaign));
  const [words, setWords] = useState<string | null>(null);
  useEffect(() => {
    const open = () => setWords("");
    window.addEventListener("beacon-words", open);
    return () => window.removeEventListener("beacon-words", open);
  }, []);
  useEffect(() => {
    if (!asked.length || words !== null) return;
    const timer = setTimeout(() => set({ asked: [] }), ASKED_MS);
    return () => clearTimeout(timer);
  }, [asked, words, set]);
  if (!asked.length) return null;
  const one = data?.exposures.find((e) => e.id === asked[0]);
  const give = (reason: string) => {
    if (reason.trim()) void setAside(asked, true, reason.trim());
    set({ asked: [] });
    setWords(null);
  };
  return (
    <div
      role="status"
      className="absolute bottom-2 left-2 z-20 flex items-center gap-3 rounded-[3px] border border-line bg-raised px-3 py-1"
    >
      <span>
        {asked.length === 1 && one ? shortName(one.name) : plural(asked.length, "exposure")} set
        aside. Why?
      </span>
      {words === null ? (
        <>
          {REASONS.map(({ key, word, rest }) => (
            <button
              key={key}
              className="min-h-6 hover:text-beam"
              onClick={() => give(word)}
              aria-label={word}
            >
              <kbd className="num text-beam">{key.toUpperCase()}</kbd>
              {rest === word ? ` ${word}` : rest}
            </button>
          ))}
          <button className="min-h-6 hover:text-beam" onClick={() => setWords("")}>
            <kbd className="num text-beam">O</kbd>ther words
          </button>
        </>
      ) : (
        <input
          autoFocus
          className="field w-56!"
          aria-label="why it is set aside"
          value={words}
          onChange={(event) => setWords(event.target.value)}
          onKeyDown={(event) => {
            if (event.key === "Enter") give(words);
            if (event.key === "Escape") give("");
          }}
        />
      )}
    </div>
  );
}

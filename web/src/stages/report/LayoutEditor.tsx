import { useEffect } from "react";
import { saveSettings, keepLayout } from "../../api/actions";
import { useLayoutText, useLayoutTried } from "../../api/queries";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { useReportView } from "./view";

/** A layout's text beside what it makes of the points at hand; its mistakes where they are. */
export function LayoutEditor() {
  const id = useApp((s) => s.campaign);
  const { data: kept } = useLayoutText(id);
  const { draft, name } = useReportView();
  const text = draft ?? kept?.text ?? "";
  const { data: tried, isFetching } = useLayoutTried(id, text);
  useEffect(() => {
    // One of ours is the beginning of one's own, under a name of its own.
    if (kept && !name)
      useReportView.setState({ name: kept.own ? kept.name : `${kept.name} of mine` });
  }, [kept, name]);
  if (!kept) return null;

  async function keep(): Promise<void> {
    const called = name.trim();
    if (!(await keepLayout(called, text))) return;
    await saveSettings({ layout: `kept:${called}` });
    useReportView.setState({ draft: null, view: "preview", name: "" });
  }
  const wrong = tried?.mistakes ?? [];
  return (
    <div className="flex h-full min-h-0 flex-col" data-testid="layout-editor">
      <div className="flex items-center gap-3 border-b border-line px-4 py-2">
        <label className="flex items-center gap-2">
          <span className="text-quiet">called</span>
          <input
            className="field w-48!"
            value={name}
            onChange={(event) => useReportView.setState({ name: event.target.value })}
          />
        </label>
        <Button main disabled={!name.trim() || wrong.length > 0} onClick={() => void keep()}>
          Keep and use it
        </Button>
        <Button
          quiet
          onClick={() => useReportView.setState({ draft: null, view: "preview", name: "" })}
        >
          Leave it
        </Button>
        <a
          className="ml-auto text-small text-quiet underline decoration-line underline-offset-2 hover:text-beam"
          href={`data:text/plain;charset=utf-8,${encodeURIComponent(text)}`}
          download={`${name.trim() || "layout"}.toml`}
        >
          as a file
        </a>
      </div>
      <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
        <textarea
          aria-label="the layout’s text"
          className="num min-h-0 resize-none border-r border-line bg-ground px-4 py-2 leading-[17px] outline-none focus:bg-panel"
          spellCheck={false}
          value={text}
          onChange={(event) => useReportView.setState({ draft: event.target.value })}
        />
        <div className="flex min-h-0 flex-col">
          {wrong.length > 0 ? (
            <ul className="px-4 py-2" role="alert">
              {wrong.map((words) => (
                <li key={words} className="border-l-2 border-trouble py-0.5 pl-2">
                  {words}
                </li>
              ))}
            </ul>
          ) : (
            <pre
              className={`num min-h-0 flex-1 overflow-auto px-4 py-2 leading-[17px] ${isFetching ? "opacity-60" : ""}`}
              tabIndex={0}
              role="region"
              aria-label="the report in this layout"
            >
              {tried?.preview}
            </pre>
          )}
        </div>
      </div>
    </div>
  );
}

import type { Stack } from "../../api/types";
import { dayOf, fixed, seconds } from "../../ui/words";
import { KIND_WORDS, lookAt, useChoice } from "./choice";

/** The night sorted into stacks with counts, and above them what is missing or thin. */
export function Stacks({ stacks, missing }: { stacks: Stack[]; missing: string[] }) {
  const chosen = useChoice((s) => s.stack);
  const nights = [...new Set(stacks.map((s) => s.night))];
  const kits = new Set(stacks.map((s) => s.kit));
  // What all have in common is said once, above; else each row says its own.
  const common = kits.size === 1 ? [...kits][0] : "";
  const settings = new Set(stacks.map((s) => s.settings));
  const detailOf = (stack: Stack) =>
    [common ? "" : stack.kit, settings.size > 1 ? stack.settings : ""].filter(Boolean).join(", ");
  return (
    <div className="max-h-[46%] shrink-0 overflow-auto border-b border-line px-4 py-2.5">
      {missing.length > 0 && (
        <ul className="mb-2 border-l-2 border-beam pl-2">
          {missing.map((words) => (
            <li key={words}>{words}</li>
          ))}
        </ul>
      )}
      <div className={`grid gap-x-8 gap-y-2 ${nights.length > 1 ? "grid-cols-2" : ""}`}>
        {nights.map((night) => (
          <table key={night} className="w-full self-start">
            <caption className="pb-1 text-left font-semibold">
              {night ? `Night of ${dayOf(night)}` : "No date"}
              {common && (
                <span className="num ml-2 text-small font-normal text-quiet">{common}</span>
              )}
            </caption>
            <tbody>
              {stacks
                .filter((stack) => stack.night === night)
                .map((stack) => {
                  const on = chosen?.ids[0] === stack.ids[0];
                  return (
                    <tr
                      key={stack.ids[0]}
                      tabIndex={0}
                      aria-selected={on}
                      title={stack.words || undefined}
                      className={`cursor-pointer border-t border-line ${on ? "bg-raised text-beam" : "hover:bg-raised"}`}
                      onClick={() => lookAt(on ? null : stack)}
                      onKeyDown={(event) => event.key === "Enter" && lookAt(on ? null : stack)}
                    >
                      <td className="w-full max-w-0 truncate py-0.5" title={detailOf(stack)}>
                        {KIND_WORDS[stack.kind] ?? stack.kind}
                        <span className="num ml-2 text-small text-quiet">{detailOf(stack)}</span>
                      </td>
                      <td className="num px-2">{stack.filter}</td>
                      <td className="num px-2 text-right whitespace-nowrap">
                        {stack.exposure_s === null ? "" : seconds(stack.exposure_s)}
                      </td>
                      <td className="num px-2 text-right whitespace-nowrap text-quiet">
                        {fixed(stack.temperature_c, 0, "°C").replace("–", "")}
                      </td>
                      <td
                        className={`num pl-3 text-right whitespace-nowrap ${stack.words ? "text-beam" : ""}`}
                      >
                        {stack.words ? "thin · " : ""}
                        {stack.count}
                      </td>
                    </tr>
                  );
                })}
            </tbody>
          </table>
        ))}
      </div>
    </div>
  );
}

import type { OriginOf } from "../api/types";

/** Where a point comes from: one step after the other, back to the raw file. */
export function Origin({ origin }: { origin: OriginOf }) {
  return (
    <div className="min-h-0 overflow-y-auto" tabIndex={0} role="region" aria-label="origin">
      {origin.blocks.map(({ title, facts }) => (
        <section key={title} className="flex gap-4 border-t border-line py-2 first:border-t-0">
          <h3 className="w-24 shrink-0 font-semibold">{title}</h3>
          <dl className="min-w-0 flex-1">
            {facts.map(({ name, words }, i) => (
              <div key={i} className="flex gap-3 py-px">
                <dt className="w-36 shrink-0 text-quiet">{name}</dt>
                <dd className="num min-w-0 break-words">{words}</dd>
              </div>
            ))}
          </dl>
        </section>
      ))}
    </div>
  );
}

export function originText(origin: OriginOf): string {
  const blocks = origin.blocks.map(({ title, facts }) =>
    [title, ...facts.map(({ name, words }) => `  ${name}: ${words}`)].join("\n"),
  );
  return [origin.name, ...blocks].join("\n");
}

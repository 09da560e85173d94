import type { ReactNode } from "react";

export function Section({
  title,
  children,
  aside,
}: {
  title?: ReactNode;
  children: ReactNode;
  aside?: ReactNode;
}) {
  return (
    <section className="border-b border-line py-2.5 pr-3 pl-1.5 last:border-b-0">
      {title && (
        <h2 className="mb-1.5 flex items-baseline font-semibold">
          <span>{title}</span>
          {aside && <span className="ml-auto text-small font-normal text-quiet">{aside}</span>}
        </h2>
      )}
      {children}
    </section>
  );
}

export function Fact({ name, children }: { name: ReactNode; children: ReactNode }) {
  return (
    <div className="flex gap-2 py-px">
      <dt className="text-quiet">{name}</dt>
      <dd className="num ml-auto text-right">{children}</dd>
    </div>
  );
}

/** What a screen shows while there is nothing on it: what it is for, and what to do first. */
export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="grid h-full place-items-center p-8">
      <div className="max-w-md">
        <h2 className="mb-2 text-large font-semibold">{title}</h2>
        <div className="flex flex-col gap-3 text-quiet">{children}</div>
      </div>
    </div>
  );
}

export function Chips<T extends string>({
  options,
  value,
  onChange,
  label,
}: {
  options: readonly { key: T; words: string }[];
  value: T;
  onChange: (key: T) => void;
  label: string;
}) {
  return (
    <div role="radiogroup" aria-label={label} className="flex flex-wrap gap-x-3 gap-y-1">
      {options.map((option) => (
        <button
          key={option.key}
          role="radio"
          aria-checked={value === option.key}
          className={
            value === option.key
              ? "min-h-6 min-w-6 border-b-2 border-beam pb-0.5 font-semibold"
              : "min-h-6 min-w-6 border-b-2 border-transparent pb-0.5 text-quiet hover:text-ink"
          }
          onClick={() => onChange(option.key)}
        >
          {option.words}
        </button>
      ))}
    </div>
  );
}

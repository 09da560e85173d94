import type { ButtonHTMLAttributes } from "react";

interface Props extends ButtonHTMLAttributes<HTMLButtonElement> {
  main?: boolean;
  quiet?: boolean;
}

/** Main: the one thing to do next. Quiet: text only. */
export function Button({ main, quiet, className = "", ...rest }: Props) {
  const look = main
    ? "bg-beam text-ground border-beam font-semibold"
    : quiet
      ? "border-transparent text-quiet hover:text-ink"
      : "border-line bg-raised hover:border-quiet";
  return (
    <button
      type="button"
      className={`rounded-[3px] border px-2.5 py-1 text-left aria-pressed:border-beam aria-pressed:text-beam ${look} ${className}`}
      {...rest}
    />
  );
}

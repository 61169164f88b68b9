import type { ButtonHTMLAttributes } from "react";

export const buttonLook =
  "inline-flex min-h-9 items-center gap-1.5 rounded-md border border-line bg-plank px-3 py-1.5 text-sm font-semibold text-ink hover:border-tide disabled:opacity-60";

/** The plain button; strong for the one thing that a dialog is about. */
export function Button({
  strong,
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { strong?: boolean }) {
  const look = strong ? "border-tide! bg-tide! text-plank!" : "";
  return <button type="button" className={`${buttonLook} ${look} ${className}`} {...rest} />;
}

import type { ComponentProps } from "react";

/** A button; strong for the one act a page is about. */
export function Button({
  strong = false,
  className = "",
  ...rest
}: ComponentProps<"button"> & { strong?: boolean }) {
  const look = strong
    ? "border-timber bg-timber text-paper hover:opacity-90"
    : "border-line bg-sheet text-ink hover:bg-wash";
  return (
    <button
      type="button"
      {...rest}
      className={`inline-flex items-center gap-1.5 rounded-md border px-3 py-1.5 text-sm font-medium disabled:cursor-not-allowed disabled:opacity-55 ${look} ${className}`}
    />
  );
}

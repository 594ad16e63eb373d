import type { ReactNode } from "react";

/** One measured figure with its name and, below it, what puts it in relation. */
export function Figure({
  name,
  value,
  beside,
  tone = "",
  testid,
}: {
  name: string;
  value: ReactNode;
  beside?: ReactNode;
  tone?: string;
  testid?: string;
}) {
  return (
    <div className="sheet min-w-0 px-3 py-1.5">
      <dt className="text-xs text-soft">{name}</dt>
      <dd data-testid={testid} className={`num truncate text-lg font-semibold ${tone}`}>
        {value}
      </dd>
      <dd className="truncate text-xs text-soft" title={typeof beside === "string" ? beside : undefined}>
        {beside ?? "\u00a0"}
      </dd>
    </div>
  );
}

import { Ban, Check, Info } from "lucide-react";
import type { Entry } from "../api";

const kinds = {
  blocker: { title: "Blockers", icon: Ban, tone: "text-brick" },
  notice: { title: "Notices", icon: Info, tone: "text-amber" },
  ok: { title: "OK", icon: Check, tone: "text-reed" },
} as const;

/** The entries of a survey or readiness list: blockers first, each with its remedy. */
export function Verdicts({ entries, folded = true }: { entries: Entry[]; folded?: boolean }) {
  return (
    <div className="grid gap-3">
      {(["blocker", "notice", "ok"] as const).map((kind) => {
        const list = entries.filter((e) => e.verdict === kind);
        if (list.length === 0) return null;
        const { title, icon: Icon, tone } = kinds[kind];
        return (
          <details key={kind} open={kind !== "ok" || !folded}>
            <summary className={`cursor-pointer py-1 text-sm font-semibold ${tone}`}>
              <Icon size={15} aria-hidden className="mr-1 inline" />
              {title} ({list.length})
            </summary>
            <ul className="mt-1 grid gap-1">
              {list.map((e, i) => (
                <li
                  key={i}
                  className="grid gap-x-4 border-t border-line py-1.5 text-sm sm:grid-cols-[11rem_1fr]"
                >
                  <span className="min-w-0 break-words">
                    {e.topic}
                    <span className="block text-xs text-soft">
                      <bdi>{e.subject}</bdi>
                    </span>
                  </span>
                  <span className="min-w-0 break-words">
                    {e.measured}
                    {e.remedy && (
                      <code className="num mt-0.5 block rounded-sm bg-wash px-2 py-1 text-xs break-words whitespace-pre-wrap">
                        {e.remedy}
                      </code>
                    )}
                  </span>
                </li>
              ))}
            </ul>
          </details>
        );
      })}
    </div>
  );
}

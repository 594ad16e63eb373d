import { CircleAlert, CircleCheck, CircleDashed, CirclePause, CirclePlay, CircleX } from "lucide-react";
import type { Crossing } from "../api";

const looks = {
  running: { icon: CirclePlay, tone: "text-reed" },
  paused: { icon: CirclePause, tone: "text-amber" },
  held: { icon: CircleAlert, tone: "text-brick" },
  failed: { icon: CircleX, tone: "text-brick" },
} as const;

/** Phase and condition: a word, a sign and a colour, never the colour alone. */
export function StateMark({ crossing }: { crossing: Crossing }) {
  const closed = crossing.phase === "closed"; // it neither runs nor stands still any more
  const planned =
    (crossing.phase === "draft" || crossing.phase === "surveyed") && crossing.condition === "running";
  const { icon: Icon, tone } = closed
    ? { icon: CircleCheck, tone: "text-reed" }
    : planned
      ? { icon: CircleDashed, tone: "text-soft" } // nothing runs yet
      : looks[crossing.condition];
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap">
      <Icon size={16} aria-hidden className={tone} />
      <span className="font-medium">{crossing.phase_label}</span>
      {!closed && !planned && <span className={tone}>{crossing.condition}</span>}
    </span>
  );
}

import { Progress } from "radix-ui";
import { percent } from "../format";

/** How far something is, as a bar with a name for those who cannot see it. */
export function Bar({ share, label, thick = false }: { share: number; label: string; thick?: boolean }) {
  return (
    <Progress.Root
      value={Math.floor(share * 100)}
      aria-label={label}
      getValueLabel={() => percent(share)}
      className={`w-full overflow-hidden rounded-sm bg-wash ${thick ? "h-3" : "h-2"}`}
    >
      <Progress.Indicator
        className={share >= 1 ? "h-full bg-reed" : "h-full bg-honey"}
        style={{ width: `${String(share * 100)}%` }}
      />
    </Progress.Root>
  );
}

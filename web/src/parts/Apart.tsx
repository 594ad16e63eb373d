/** Characters that cannot be seen, by sight. */
const signs: Record<string, string> = {
  " ": "·",
  "\u00a0": "⍽",
  "\t": "→",
  "\n": "↵",
  "\r": "␍",
  "\u200b": "∅",
  "\ufeff": "∅",
};

const sayOf = (ch: string): string =>
  ({ " ": "space", "\u00a0": "no-break space", "\t": "tab", "\n": "line break", "\r": "carriage return" })[
    ch
  ] ?? `U+${(ch.codePointAt(0) ?? 0).toString(16).toUpperCase().padStart(4, "0")}`;

/** How many characters two texts share at their beginning and at their end. */
function common(a: string[], b: string[]): [number, number] {
  const most = Math.min(a.length, b.length);
  let head = 0;
  while (head < most && a[head] === b[head]) head++;
  let tail = 0;
  while (tail < most - head && a[a.length - 1 - tail] === b[b.length - 1 - tail]) tail++;
  return [head, tail];
}

const far = 60;

/**
 * A value beside the one it should be like: what is different is marked, and spaces and other unseen characters in it
 * are made visible.
 */
export function Apart({
  value,
  other,
}: {
  value: string | null | undefined;
  other: string | null | undefined;
}) {
  if (value === undefined) return <span className="text-soft italic">no row</span>;
  if (value === null)
    return (
      <span className={`italic ${other === null ? "text-soft" : "font-semibold text-brick"}`}>NULL</span>
    );
  if (other === null || other === undefined || value === other) {
    return <bdi className="whitespace-pre-wrap">{value === "" ? <Empty /> : shorten(value)}</bdi>;
  }
  const mine = Array.from(value);
  const [head, tail] = common(mine, Array.from(other));
  const middle = mine.slice(head, mine.length - tail);
  return (
    <bdi className="whitespace-pre-wrap">
      {head > far && "…"}
      {mine.slice(Math.max(0, head - far), head).join("")}
      <mark className="rounded-xs bg-honey/35 px-px text-ink">
        {middle.length === 0 ? (
          <span title="nothing here" className="text-soft">
            ‸
          </span>
        ) : (
          middle.slice(0, 200).map((ch, i) => (
            <span key={i} title={signs[ch] !== undefined || ch < " " ? sayOf(ch) : undefined}>
              {signs[ch] ?? (ch < " " ? `⟨${sayOf(ch)}⟩` : ch)}
            </span>
          ))
        )}
        {middle.length > 200 && "…"}
      </mark>
      {mine.slice(mine.length - tail, Math.min(mine.length, mine.length - tail + far)).join("")}
      {tail > far && "…"}
      {value === "" && <Empty />}
    </bdi>
  );
}

const Empty = () => <span className="text-soft italic">empty text</span>;
const shorten = (s: string) => (s.length > 400 ? `${s.slice(0, 400)}…` : s);

import { useQueryClient } from "@tanstack/react-query";
import { createContext, useContext, useEffect, useState, type ReactNode } from "react";
import type { Crossing, JournalEntry } from "./api";

interface Live {
  /** False while the stream is lost: what is shown is old. */
  fresh: boolean;
  since: number;
}

const Context = createContext<Live>({ fresh: false, since: 0 });

export const useLive = (): Live => useContext(Context);

/** One event stream for the tab; it feeds the query cache and resumes by itself. */
export function LiveStream({ children }: { children: ReactNode }) {
  const cache = useQueryClient();
  const [live, setLive] = useState<Live>(() => ({ fresh: true, since: Date.now() }));
  useEffect(() => {
    const stream = new EventSource("/api/events");
    let last = Date.now();
    stream.addEventListener("crossings", (e: MessageEvent<string>) => {
      last = Date.now();
      const all = JSON.parse(e.data) as Crossing[];
      cache.setQueryData(["crossings"], all);
      for (const c of all) cache.setQueryData(["crossing", c.name], c);
    });
    stream.addEventListener("journal", (e: MessageEvent<string>) => {
      const entry = JSON.parse(e.data) as JournalEntry;
      cache.setQueryData<JournalEntry[]>(["journal", entry.crossing], (old) =>
        old && !old.some((o) => o.id === entry.id) ? [entry, ...old].slice(0, 200) : old,
      );
    });
    const watch = setInterval(() => {
      setLive((was) => {
        const fresh = Date.now() - last < 4000;
        return was.fresh === fresh ? was : { fresh, since: last };
      });
    }, 500);
    return () => {
      clearInterval(watch);
      stream.close();
    };
  }, [cache]);
  return <Context value={live}>{children}</Context>;
}

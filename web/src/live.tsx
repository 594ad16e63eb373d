import {
  keepPreviousData,
  useQuery,
  useQueryClient,
  type QueryClient,
  type UseQueryResult,
} from "@tanstack/react-query";
import { createContext, useContext, useEffect, useMemo, useState, type ReactNode } from "react";
import { address, read, type Answer, type GetPath, type Params, type Refused } from "./api";

/** Whether what is shown is of now, and the moment it is of. */
interface Freshness {
  fresh: boolean;
  since: number;
}

const FreshContext = createContext<Freshness>({ fresh: true, since: 0 });
export const useFreshness = (): Freshness => useContext(FreshContext);

/** The tab's one event stream: it follows the topics that the shown parts ask for. */
class Stream {
  private topics = new Map<string, number>();
  private source: EventSource | undefined;
  private after = "";
  private pending: ReturnType<typeof setTimeout> | undefined;
  private open = "";
  /** When the service last said that everything shown is of now. */
  last = Date.now();

  /**
   * What the stream said last of each topic. It says only what has changed since, so a
   * read after an act may leave a state in the cache that was over before the next beat.
   */
  private said = new Map<string, unknown>();

  constructor(private readonly cache: QueryClient) {}

  private answered(topic: string, status: number, body: unknown) {
    if (status === 200) this.said.set(topic, this.cache.setQueryData([topic], body));
    else {
      this.said.delete(topic);
      void this.cache.invalidateQueries({ queryKey: [topic] });
    }
  }

  /** Every topic is now as it was said last. */
  private beat() {
    this.last = Date.now();
    for (const [topic, body] of this.said)
      if (this.cache.getQueryData([topic]) !== body)
        this.said.set(topic, this.cache.setQueryData([topic], body));
  }

  follow(topic: string): () => void {
    this.topics.set(topic, (this.topics.get(topic) ?? 0) + 1);
    this.soon();
    return () => {
      const n = (this.topics.get(topic) ?? 1) - 1;
      if (n > 0) this.topics.set(topic, n);
      else this.topics.delete(topic);
      this.soon();
    };
  }

  /** Topics come and go together when a page changes; one new stream serves them all. */
  private soon(wait = 80) {
    clearTimeout(this.pending);
    this.pending = setTimeout(() => {
      this.connect();
    }, wait);
  }

  connect() {
    const list = [...this.topics.keys()].sort();
    const key = list.join("\n");
    if (this.source && this.source.readyState !== EventSource.CLOSED && key === this.open) return;
    this.source?.close();
    this.open = key;
    this.said.clear();
    const query = new URLSearchParams(list.map((t) => ["topic", t]));
    if (this.after !== "") query.set("after", this.after);
    const source = new EventSource(`/api/events?${query.toString()}`);
    this.source = source;
    source.addEventListener("answer", (e: MessageEvent<string>) => {
      const { topic, status, body } = JSON.parse(e.data) as { topic: string; status: number; body: unknown };
      this.answered(topic, status, body);
    });
    source.addEventListener("journal", (e: MessageEvent<string>) => {
      this.after = e.lastEventId;
    });
    source.addEventListener("beat", () => {
      this.beat();
    });
    source.addEventListener("error", () => {
      // A stream that was refused does not come back by itself.
      if (source.readyState === EventSource.CLOSED) this.soon(2000);
    });
  }

  close() {
    clearTimeout(this.pending);
    this.source?.close();
  }
}

const StreamContext = createContext<Stream | undefined>(undefined);

export function LiveStream({ children }: { children: ReactNode }) {
  const cache = useQueryClient();
  const [freshness, setFreshness] = useState<Freshness>(() => ({ fresh: true, since: Date.now() }));
  const stream = useMemo(() => new Stream(cache), [cache]);
  useEffect(() => {
    const leave = () => {
      stream.close();
    };
    const comeBack = () => {
      stream.connect();
    };
    stream.connect();
    // A page that is left may be kept for coming back to; its stream would go on
    // holding one of the few connections a browser allows.
    window.addEventListener("pagehide", leave);
    window.addEventListener("pageshow", comeBack);
    const watch = setInterval(() => {
      const fresh = Date.now() - stream.last < 4000;
      setFreshness((was) => (was.fresh === fresh && fresh ? was : { fresh, since: stream.last }));
    }, 500);
    return () => {
      window.removeEventListener("pagehide", leave);
      window.removeEventListener("pageshow", comeBack);
      clearInterval(watch);
      stream.close();
    };
  }, [stream]);
  return (
    <StreamContext value={stream}>
      <FreshContext value={freshness}>{children}</FreshContext>
    </StreamContext>
  );
}

/** Reads an answer once. */
export function useRead<P extends GetPath>(
  path: P,
  params: Params = {},
  options: { enabled?: boolean; keep?: boolean; stale?: number } = {},
): UseQueryResult<Answer<P>, Refused> {
  const url = address(path, params);
  return useQuery<Answer<P>, Refused>({
    queryKey: [url],
    queryFn: ({ signal }) => read<Answer<P>>(url, signal),
    enabled: options.enabled ?? true,
    staleTime: options.stale ?? 0,
    ...(options.keep ? { placeholderData: keepPreviousData as never } : {}),
  });
}

/** Reads an answer and keeps it as it is now, through the tab's event stream. */
export function useLive<P extends GetPath>(
  path: P,
  params: Params = {},
  options: { enabled?: boolean; keep?: boolean } = {},
): UseQueryResult<Answer<P>, Refused> {
  const stream = useContext(StreamContext);
  const url = address(path, params);
  const enabled = options.enabled ?? true;
  useEffect(() => (enabled ? stream?.follow(url) : undefined), [stream, url, enabled]);
  return useRead(path, params, { ...options, stale: 2000 });
}

import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import type { Refused } from "../api";

/** What is being read, or what went wrong; otherwise what was read. */
export function Said<T>({
  of,
  reading,
  children,
}: {
  of: UseQueryResult<T, Refused>;
  reading: string;
  children: (data: T) => ReactNode;
}) {
  if (of.data !== undefined) return <>{children(of.data)}</>;
  if (of.error) return <Trouble>{of.error.message}</Trouble>;
  return <p className="py-2 text-sm text-soft">{reading} …</p>;
}

export function Trouble({ children }: { children: ReactNode }) {
  return (
    <p role="alert" className="my-2 rounded-md border border-brick bg-sheet px-3 py-2 text-sm text-brick">
      {children}
    </p>
  );
}

/** What a place says when there is nothing in it yet. */
export function Nothing({ children }: { children: ReactNode }) {
  return <p className="max-w-prose py-3 text-sm text-soft">{children}</p>;
}

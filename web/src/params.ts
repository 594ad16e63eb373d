import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** A choice kept in the address, so that it can be linked to and gone back to. */
export function useParam(name: string, fallback = ""): [string, (value: string) => void] {
  const [all, set] = useSearchParams();
  const change = useCallback(
    (value: string) => {
      set(
        () => {
          // From the address as it is: whoever waits before it calls, like a search that is being
          // typed, would bring back what another has changed in the meantime.
          const now = new URLSearchParams(window.location.search);
          if (value === fallback) now.delete(name);
          else now.set(name, value);
          if (name !== "page") now.delete("page");
          return now;
        },
        { replace: true },
      );
    },
    [set, name, fallback],
  );
  return [all.get(name) ?? fallback, change];
}

/** The page in an address, from 0; what is no number there is the first. */
export const pageNumber = (text: string): number => (/^\d{1,9}$/.test(text) ? Number(text) : 0);

import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** A choice kept in the address, so that it can be linked to and gone back to. */
export function useParam(name: string, fallback = ""): [string, (value: string) => void] {
  const [all, set] = useSearchParams();
  const change = useCallback(
    (value: string) => {
      set(
        (old) => {
          const now = new URLSearchParams(old);
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

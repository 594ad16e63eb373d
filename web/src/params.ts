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

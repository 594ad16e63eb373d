import { createContext, useContext, useEffect, useState, type ReactNode } from "react";

/** What a person chose for this browser. */
export interface Prefs {
  theme: "system" | "light" | "dark";
  clock: "local" | "utc";
}

const key = "dusty-ferry";

function stored(): Prefs {
  const fallback: Prefs = { theme: "system", clock: "local" };
  try {
    return { ...fallback, ...(JSON.parse(localStorage.getItem(key) ?? "{}") as Partial<Prefs>) };
  } catch {
    return fallback;
  }
}

/** Sets the colours before anything is drawn. */
export function applyTheme(theme: Prefs["theme"] = stored().theme) {
  if (theme === "system") delete document.documentElement.dataset.theme;
  else document.documentElement.dataset.theme = theme;
}

const Context = createContext<[Prefs, (p: Prefs) => void]>([stored(), () => undefined]);
export const usePrefs = () => useContext(Context);

export function Preferences({ children }: { children: ReactNode }) {
  const [prefs, setPrefs] = useState(stored);
  useEffect(() => {
    localStorage.setItem(key, JSON.stringify(prefs));
    applyTheme(prefs.theme);
  }, [prefs]);
  return <Context value={[prefs, setPrefs]}>{children}</Context>;
}

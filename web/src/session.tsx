import { createContext, useContext } from "react";
import type { Role, Session } from "./api";

const Context = createContext<Session>({ name: "", role: "viewer", see_rows: false });
export const SessionProvider = Context;
export const useSession = (): Session => useContext(Context);

const rank: Record<Role, number> = { gateway: 0, viewer: 1, operator: 2, admin: 3 };

/** Why this person may not do what needs the role, or undefined when they may. */
export function useForbidden(needs: Role): string | undefined {
  const { role } = useSession();
  if (rank[role] >= rank[needs]) return undefined;
  return `Your role is ${role}; this needs ${needs}. Ask an admin for a token with that role.`;
}

/** Why this person may not see rows of the databases, or undefined when they may. */
export function useHiddenRows(): string | undefined {
  const { see_rows } = useSession();
  return see_rows
    ? undefined
    : "Your token may not see rows of the databases. Ask an admin for one that may.";
}

import { createContext, useContext } from "react";
import type { Role, Session } from "./api";

const Context = createContext<Session>({ name: "", role: "viewer" });
export const SessionProvider = Context;
export const useSession = (): Session => useContext(Context);

const rank: Record<Role, number> = { viewer: 1, operator: 2, admin: 3 };

/** Why this person may not do what needs the role, or undefined when they may. */
export function useForbidden(needs: Role): string | undefined {
  const { role } = useSession();
  if (rank[role] >= rank[needs]) return undefined;
  return `Your role is ${role}; this needs ${needs}. Ask an admin for a token with that role.`;
}

import { LogOut } from "lucide-react";
import { lazy, Suspense } from "react";
import { Link, NavLink, Route, Routes, useLocation } from "react-router";
import { Refused, api, type Session } from "./api";
import { useFreshness, LiveStream, useRead } from "./live";
import { usePrefs } from "./prefs";
import { SessionProvider, useSession } from "./session";
import { clock } from "./time";
import { SignIn } from "./pages/SignIn";
import { Overview } from "./pages/Overview";
import { Broken } from "./parts/Broken";
import { Button } from "./parts/Button";

const Databases = lazy(() => import("./pages/Databases"));
const DatabasePage = lazy(() => import("./pages/DatabasePage"));
const NewCrossing = lazy(() => import("./pages/NewCrossing"));
const CrossingFrame = lazy(() => import("./pages/crossing/CrossingFrame"));
const Journal = lazy(() => import("./pages/Journal"));
const Workers = lazy(() => import("./pages/Workers"));
const Access = lazy(() => import("./pages/Access"));
const SettingsPage = lazy(() => import("./pages/SettingsPage"));

export function App() {
  const session = useRead("/api/session", {}, { stale: 30_000 });
  if (session.isPending) return <p className="p-8 text-soft">Asking who you are …</p>;
  if (session.error instanceof Refused && session.error.status === 401) return <SignIn />;
  if (!session.data) return <p className="p-8 text-brick">{session.error?.message}</p>;
  return (
    <SessionProvider value={session.data}>
      <LiveStream>
        <Frame session={session.data} />
      </LiveStream>
    </SessionProvider>
  );
}

const places = [
  ["/", "Crossings"],
  ["/databases", "Databases"],
  ["/journal", "Journal"],
  ["/workers", "Workers"],
  ["/access", "Access"],
  ["/settings", "Settings"],
] as const;

function Frame({ session }: { session: Session }) {
  const { pathname, search } = useLocation();
  const here = pathname + search;
  const signOut = async () => {
    await api.DELETE("/api/session");
    // A fresh page: nothing of what was shown stays in memory.
    window.location.assign("/");
  };
  return (
    <div className="min-h-screen">
      <a
        href="#main"
        className="absolute left-2 z-30 -translate-y-16 rounded-md bg-timber px-3 py-2 text-paper focus:translate-y-2"
      >
        Skip to the content
      </a>
      <header className="no-print border-b border-line bg-sheet">
        <div className="mx-auto flex max-w-[1240px] flex-wrap items-center gap-x-5 gap-y-1 px-4 py-2">
          <Link to="/" className="flex items-center gap-2 font-semibold text-timber">
            <img src="/icon.svg" alt="" className="h-6 w-6" />
            Dusty Ferry
          </Link>
          <nav aria-label="Places" className="flex flex-wrap gap-x-4 text-sm">
            {places.map(([to, name]) => (
              <NavLink
                key={to}
                to={to}
                end={to === "/"}
                className={({ isActive }) =>
                  `border-b-2 py-1 ${isActive ? "border-honey font-medium" : "border-transparent text-soft hover:border-line"}`
                }
              >
                {name}
              </NavLink>
            ))}
          </nav>
          <span className="ml-auto flex flex-wrap items-center gap-x-4">
            <Fresh />
            <span className="text-sm text-soft">
              {session.name}, {session.role}
            </span>
            <Button onClick={() => void signOut()} aria-label="Sign out" title="Sign out" className="px-2">
              <LogOut size={15} aria-hidden />
            </Button>
          </span>
        </div>
      </header>
      <main id="main" className="mx-auto max-w-[1240px] px-4 py-3">
        <ViewerNote />
        <Broken at={here}>
          <Suspense fallback={<p className="text-soft">Opening the page …</p>}>
            <Routes>
              <Route path="/" element={<Overview />} />
              <Route path="/databases" element={<Databases />} />
              <Route path="/databases/:name" element={<DatabasePage />} />
              <Route path="/crossings/new" element={<NewCrossing />} />
              <Route path="/crossings/:name/*" element={<CrossingFrame />} />
              <Route path="/journal" element={<Journal />} />
              <Route path="/workers" element={<Workers />} />
              <Route path="/access" element={<Access />} />
              <Route path="/settings" element={<SettingsPage />} />
              <Route
                path="*"
                element={
                  <p>
                    There is no such page.{" "}
                    <Link to="/" className="link">
                      See all crossings
                    </Link>
                  </p>
                }
              />
            </Routes>
          </Suspense>
        </Broken>
      </main>
    </div>
  );
}

function ViewerNote() {
  const { role } = useSession();
  if (role !== "viewer") return null;
  return (
    <p className="no-print mb-2 text-xs text-soft">
      Viewers can watch, not steer: your role is viewer. Ask an admin for a token with the operator role to
      change anything.
    </p>
  );
}

/** Says plainly when the figures are old. */
function Fresh() {
  const { fresh, since } = useFreshness();
  const [{ clock: zone }] = usePrefs();
  return (
    <span role="status" className={fresh ? "text-sm text-soft" : "text-sm font-semibold text-brick"}>
      {fresh ? "Live" : `Not live: figures are of ${clock(new Date(since), zone)}, reconnecting …`}
    </span>
  );
}

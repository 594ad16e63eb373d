import { useQuery } from "@tanstack/react-query";
import { LogOut } from "lucide-react";
import { Link, Route, Routes } from "react-router";
import { Refused, api, take, type Session } from "./api";
import { clock } from "./format";
import { LiveStream, useLive } from "./live";
import { CrossingPage } from "./pages/CrossingPage";
import { Overview } from "./pages/Overview";
import { SignIn } from "./pages/SignIn";
import { Button } from "./parts/Button";

export function App() {
  const session = useQuery({ queryKey: ["session"], queryFn: () => take(api.GET("/api/session")) });
  if (session.isPending) return <p className="p-8 text-soft">Asking who you are …</p>;
  if (session.error instanceof Refused && session.error.status === 401) return <SignIn />;
  if (session.error) return <p className="p-8 text-brick">{session.error.message}</p>;
  return (
    <LiveStream>
      <Frame session={session.data} />
    </LiveStream>
  );
}

function Frame({ session }: { session: Session }) {
  const signOut = async () => {
    await api.DELETE("/api/session");
    // A fresh page: nothing of what was shown stays in memory.
    window.location.assign("/");
  };
  return (
    <div className="min-h-screen">
      <header className="border-b border-line bg-sheet">
        <div className="mx-auto flex max-w-6xl flex-wrap items-center gap-x-6 gap-y-2 px-4 py-3">
          <Link to="/" className="flex items-center gap-2 text-lg font-semibold text-timber">
            <img src="/icon.svg" alt="" className="h-6 w-6" />
            Dusty Ferry
          </Link>
          <Freshness />
          <span className="ml-auto text-sm text-soft">
            {session.name}, {session.role}
          </span>
          <Button onClick={() => void signOut()}>
            <LogOut size={15} aria-hidden /> Sign out
          </Button>
        </div>
      </header>
      <main className="mx-auto max-w-6xl px-4 py-5">
        <Routes>
          <Route path="/" element={<Overview />} />
          <Route path="/crossings/:name" element={<CrossingPage role={session.role} />} />
          <Route
            path="*"
            element={
              <p>
                There is no such page. <Link to="/">See all crossings</Link>
              </p>
            }
          />
        </Routes>
      </main>
    </div>
  );
}

/** Says plainly when the figures are old. */
function Freshness() {
  const live = useLive();
  return (
    <span role="status" className={live.fresh ? "text-sm text-soft" : "text-sm font-semibold text-brick"}>
      {live.fresh
        ? "Live"
        : `Not live: figures are of ${clock(new Date(live.since).toISOString())}, reconnecting …`}
    </span>
  );
}

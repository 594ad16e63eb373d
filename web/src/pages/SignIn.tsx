import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api";
import { Button } from "../parts/Button";

export function SignIn() {
  const cache = useQueryClient();
  const [token, setToken] = useState("");
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);
  const submit = async () => {
    setBusy(true);
    setError("");
    try {
      await take(api.POST("/api/session", { body: { token: token.trim() } }));
      await cache.invalidateQueries();
    } catch (e) {
      setError(e instanceof Error ? e.message : "Signing in failed.");
    } finally {
      setBusy(false);
    }
  };
  return (
    <main className="mx-auto flex min-h-screen max-w-md flex-col justify-center px-4">
      <title>Sign in, Dusty Ferry</title>
      <div className="flex items-center gap-3">
        <img src="/icon.svg" alt="" className="h-10 w-10" />
        <h1 className="text-2xl font-semibold text-timber">Dusty Ferry</h1>
      </div>
      <p className="mt-3 text-soft">
        Takes tables from one live database to another, without losing a row. Sign in with an access token;
        the service shows the first one when it starts for the first time.
      </p>
      <form
        className="mt-6 rounded-md border border-line bg-sheet p-4"
        onSubmit={(e) => {
          e.preventDefault();
          void submit();
        }}
      >
        <label htmlFor="token" className="text-sm font-medium">
          Access token
        </label>
        <input
          id="token"
          type="password"
          autoComplete="off"
          required
          value={token}
          onChange={(e) => {
            setToken(e.target.value);
          }}
          aria-describedby="token-error"
          className="num mt-1 w-full rounded-md border border-line bg-paper px-3 py-2"
        />
        <p id="token-error" role="alert" className="mt-2 min-h-5 text-sm text-brick">
          {error}
        </p>
        <Button strong type="submit" disabled={busy} className="mt-1 w-full justify-center">
          {busy ? "Signing in …" : "Sign in"}
        </Button>
      </form>
    </main>
  );
}

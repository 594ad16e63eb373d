import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useId, useState, type ReactNode } from "react";
import type { Role } from "../api";
import { useForbidden } from "../session";
import { Button } from "./Button";

interface ActProps {
  /** What the button says, with its sign. */
  children: ReactNode;
  /** What is done; with a typed confirmation, it gets the word that was typed. */
  act: (confirmed: string) => Promise<unknown>;
  needs?: Role;
  strong?: boolean;
  /** Why it cannot be done now. */
  blocked?: string | undefined;
  /** Asked before it is done: what exactly will happen. */
  confirm?: { title: string; body: ReactNode; verb: string; typed?: string };
  onDone?: () => void;
}

/** Something a person does: closed to those who may not, saying why; what the service refuses is shown beside it. */
export function Act({
  children,
  act,
  needs = "operator",
  strong = false,
  blocked,
  confirm,
  onDone,
}: ActProps) {
  const cache = useQueryClient();
  const forbidden = useForbidden(needs);
  const [open, setOpen] = useState(false);
  const doing = useMutation({
    mutationFn: act,
    onSuccess: () => {
      setOpen(false);
      void cache.invalidateQueries();
      onDone?.();
    },
  });
  const why = forbidden ?? blocked;
  const button = (
    <Button
      strong={strong}
      disabled={why !== undefined || doing.isPending}
      title={why}
      onClick={() => {
        if (confirm) {
          doing.reset();
          setOpen(true);
        } else doing.mutate("");
      }}
    >
      {children}
    </Button>
  );
  return (
    <span className="inline-flex flex-wrap items-center gap-2">
      {button}
      {!open && doing.error && (
        <span role="alert" className="max-w-prose text-sm text-brick">
          {doing.error.message}
        </span>
      )}
      {confirm && open && (
        <Ask
          setOpen={setOpen}
          {...confirm}
          busy={doing.isPending}
          error={doing.error?.message}
          go={(word) => {
            doing.mutate(word);
          }}
        />
      )}
    </span>
  );
}

interface AskProps {
  setOpen: (open: boolean) => void;
  title: string;
  body: ReactNode;
  verb: string;
  typed?: string;
  busy: boolean;
  error: string | undefined;
  go: (word: string) => void;
}

/** Asks once: it is made anew each time, so that nothing typed before is there again. */
function Ask({ setOpen, title, body, verb, typed, busy, error, go }: AskProps) {
  const [word, setWord] = useState("");
  const id = useId();
  return (
    <Dialog.Root open onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-ink/40" />
        <Dialog.Content className="sheet fixed top-1/2 left-1/2 z-20 max-h-[90vh] w-[min(34rem,94vw)] -translate-x-1/2 -translate-y-1/2 overflow-y-auto p-5 shadow-lg">
          <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
          <Dialog.Description asChild>
            <div className="mt-2 grid gap-2 text-sm">{body}</div>
          </Dialog.Description>
          <form
            onSubmit={(e) => {
              e.preventDefault();
              go(word);
            }}
          >
            {typed !== undefined && (
              <label htmlFor={id} className="mt-3 block text-sm">
                Type <strong className="num">{typed}</strong> to confirm
                <input
                  id={id}
                  value={word}
                  autoComplete="off"
                  onChange={(e) => {
                    setWord(e.target.value);
                  }}
                  className="field num mt-1 w-full"
                />
              </label>
            )}
            {error !== undefined && (
              <p role="alert" className="mt-2 text-sm text-brick">
                {error}
              </p>
            )}
            <div className="mt-4 flex justify-end gap-2">
              <Dialog.Close asChild>
                <Button>Cancel</Button>
              </Dialog.Close>
              <Button strong type="submit" disabled={busy || (typed !== undefined && word !== typed)}>
                {busy ? "Asking the service …" : verb}
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

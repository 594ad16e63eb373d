import { Component, type ErrorInfo, type ReactNode } from "react";
import { Button } from "./Button";

interface State {
  error?: Error;
  at?: string;
}

/** Catches what breaks in a page, so that the rest stays: says it, and offers ways on. */
export class Broken extends Component<{ at: string; children: ReactNode }, State> {
  override state: State = {};

  static getDerivedStateFromError(error: Error): State {
    return { error };
  }

  static getDerivedStateFromProps(props: { at: string }, state: State): State | null {
    // Another page is tried anew.
    return state.at === props.at ? null : { at: props.at };
  }

  override componentDidCatch(error: Error, info: ErrorInfo): void {
    console.error(error, info.componentStack);
  }

  override render(): ReactNode {
    const { error } = this.state;
    if (!error) return this.props.children;
    return (
      <div role="alert" className="sheet my-3 max-w-prose border-brick px-4 py-3">
        <h1 className="text-lg font-semibold">This page cannot be shown</h1>
        <p className="mt-1 text-sm">
          A fault in the console itself stopped it: <code className="num">{error.message}</code>. The service
          goes on; nothing was changed.
        </p>
        <p className="mt-3 flex flex-wrap gap-2">
          <Button
            onClick={() => {
              window.location.assign(window.location.pathname);
            }}
          >
            Open it without its filters
          </Button>
          <Button
            onClick={() => {
              window.location.assign("/");
            }}
          >
            See all crossings
          </Button>
        </p>
      </div>
    );
  }
}

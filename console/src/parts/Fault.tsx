import { Component } from "react";
import type { ReactNode } from "react";

/** Shows what broke on a page instead of nothing at all. Another page clears it. */
export class Fault extends Component<{ children: ReactNode; at: string }, { error?: Error; at: string }> {
  state: { error?: Error; at: string } = { at: this.props.at };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  static getDerivedStateFromProps(props: { at: string }, state: { error?: Error; at: string }) {
    return props.at === state.at ? null : { error: undefined, at: props.at };
  }

  render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    return (
      <div role="alert" className="max-w-3xl border-l-4 border-wreck bg-sheet px-4 py-3">
        <h1 className="text-[20px] font-semibold text-wreck">This page broke</h1>
        <p className="my-2">
          It is a mistake of the console, not of your machines: nothing was changed by it. Load the page again; if it
          happens again, report this line.
        </p>
        <p className="mono text-soft">{error.message}</p>
        <button className="button-main mt-3" onClick={() => window.location.reload()}>
          Load it again
        </button>
      </div>
    );
  }
}

import { Component, type ReactNode } from "react";
import { Notice } from "./Notice";

type Props = { of: string; children: ReactNode };

/** Keeps what cannot be drawn from taking the page with it: its place says so, the rest stays. */
export class Boundary extends Component<Props, { why?: string }> {
  override state: { why?: string } = {};

  static getDerivedStateFromError(error: unknown) {
    return { why: error instanceof Error ? error.message : String(error) };
  }

  override render() {
    if (this.state.why === undefined) return this.props.children;
    return (
      <Notice title={`${this.props.of} cannot be shown`} tone="alarm">
        <p>
          This page does not understand what the service told: {this.state.why}. Nothing is lost by it. Load
          the page again; if it comes back, the two may be of different versions.
        </p>
      </Notice>
    );
  }
}

import { Button } from "antd";
import { Component, type ReactNode } from "react";

/** Where a screen breaks, the rest stays: says so, and lets it be drawn again. Nothing planned is lost by it. */
export class Boundary extends Component<{ children: ReactNode }, { error: Error | null }> {
  state = { error: null as Error | null };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  render() {
    if (!this.state.error) return this.props.children;
    return (
      <div className="empty" role="alert">
        <h2>This screen could not be drawn</h2>
        <p className="muted">Everything you changed is kept. What went wrong: {this.state.error.message}</p>
        <Button type="primary" onClick={() => this.setState({ error: null })}>
          Draw it again
        </Button>
      </div>
    );
  }
}

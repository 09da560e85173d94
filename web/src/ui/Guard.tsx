import { Component, type ReactNode } from "react";
import { Button } from "./Button";

interface Props {
  /** Another part of the page gets another chance. */
  part: string;
  children: ReactNode;
}

/** Keeps the rest of the page when a part of it fails, and says what to do. */
export class Guard extends Component<Props, { error: string }> {
  override state = { error: "" };

  static getDerivedStateFromError(error: unknown) {
    return { error: error instanceof Error ? error.message : String(error) };
  }

  override componentDidUpdate(before: Props) {
    if (before.part !== this.props.part && this.state.error) this.setState({ error: "" });
  }

  override render() {
    if (!this.state.error) return this.props.children;
    return (
      <div role="alert" className="m-3 border-l-2 border-trouble pl-2">
        <p className="mb-2">
          This part of the page could not be shown. Nothing is lost. If the program was started
          anew, load the page again.
        </p>
        <p className="num mb-2 text-small text-quiet">{this.state.error}</p>
        <Button main onClick={() => location.reload()}>
          Load the page again
        </Button>
      </div>
    );
  }
}

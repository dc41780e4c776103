import { useState, type ReactNode } from "react";

/** The right-hand panel; it can be widened and folded away, and stays so. */
export function Side({ label, children }: { label: string; children: ReactNode }) {
  const [size, setSize] = useState(() => localStorage.getItem("side") ?? "");
  const turn = (next: string) => {
    localStorage.setItem("side", next);
    setSize(next);
  };
  return (
    <aside className={`side ${size}`} aria-label={label}>
      <div className="side-tools">
        {size !== "folded" && (
          <button
            className="plain"
            title={size === "wide" ? "Make narrower" : "Make wider"}
            aria-label={size === "wide" ? "Make the panel narrower" : "Make the panel wider"}
            onClick={() => turn(size === "wide" ? "" : "wide")}
          >
            ⇔
          </button>
        )}
        <button
          className="plain"
          title={size === "folded" ? "Unfold" : "Fold away"}
          aria-label={size === "folded" ? "Unfold the panel" : "Fold the panel away"}
          onClick={() => turn(size === "folded" ? "" : "folded")}
        >
          {size === "folded" ? "«" : "»"}
        </button>
      </div>
      {size !== "folded" && children}
    </aside>
  );
}

import { Button } from "antd";
import type { ReactNode } from "react";
import { usePlan } from "../plan/PlanContext";

/** A sheet to print or save: what stands around it stays on the screen. */
export function Sheet({
  title,
  about,
  on,
  tools,
  children,
}: {
  title: string;
  about: ReactNode;
  on: string | undefined;
  tools?: ReactNode;
  children: ReactNode;
}) {
  const { outline } = usePlan();
  return (
    <div className="work sheets">
      <div className="tools no-print">
        {tools}
        <span className="spread" />
        <Button size="small" type="primary" onClick={() => window.print()}>
          Print, or save as PDF …
        </Button>
      </div>
      <article className="paper">
        <header>
          <div>
            <h1>{title}</h1>
            <p>{about}</p>
          </div>
          <div className="issued">
            <span>
              {outline.office && `${outline.office} · `}
              {outline.name}
            </span>
            {on && <span>as planned, {new Date(`${on}T12:00:00`).toLocaleDateString(undefined, { dateStyle: "long" })}</span>}
          </div>
        </header>
        {children}
      </article>
    </div>
  );
}

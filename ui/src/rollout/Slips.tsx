import { Button, Popconfirm, Segmented } from "antd";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { plural } from "../parts/plural";
import { shownName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { reachedAs } from "../shares/words";
import { CardsWithPasswords } from "../sheets/Card";
import "../sheets/sheets.css";

/** New passwords, shown once: a slip for each, to print, to cut and to hand out, or on their cards, with what they reach. */
export function Slips({ given, host, onClose }: { given: Schemas["GivenPassword"][]; host: string; onClose: () => void }) {
  const { outline, index } = usePlan();
  const [on, setOn] = useState<"slips" | "cards">("slips");
  return (
    <div className="work sheets">
      <div className="tools no-print">
        <b>{plural(given.length, "new password")}</b>
        <span className="late">Shown this once. They work now.</span>
        <Segmented
          size="small"
          aria-label="What they are printed on"
          value={on}
          onChange={setOn}
          options={[
            { value: "slips", label: "On slips" },
            { value: "cards", label: "On cards, with what they reach" },
          ]}
        />
        <span className="spread" />
        <Button size="small" type="primary" onClick={() => window.print()}>
          Print, or save as PDF …
        </Button>
        <Popconfirm
          title="Are they printed or written down?"
          description="They cannot be shown again; you can only make new ones."
          okText="Yes, close"
          cancelText="Cancel"
          onConfirm={onClose}
          placement="bottomRight"
        >
          <Button size="small">Close …</Button>
        </Popconfirm>
      </div>
      {on === "cards" ? (
        <CardsWithPasswords given={given} />
      ) : (
        <article className="paper">
          {given.map((one) => (
            <section key={one.user} className="slip">
              <h2>{index.users.has(one.user) ? shownName(index.users.get(one.user)!) : one.account}</h2>
              <dl>
                <div>
                  <dt>File server</dt>
                  <dd>
                    {reachedAs(outline)} <span className="muted">({host})</span>
                  </dd>
                </div>
                <div>
                  <dt>Sign-in name</dt>
                  <dd>
                    <code>{one.account}</code>
                  </dd>
                </div>
                <div>
                  <dt>Password</dt>
                  <dd>
                    <code className="password">{one.password}</code>
                  </dd>
                </div>
              </dl>
            </section>
          ))}
        </article>
      )}
    </div>
  );
}

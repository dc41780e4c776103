import { Button, Dropdown } from "antd";
import type { Level, Promised } from "../api/client";
import { whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { ANYTHING, promisable, promiseEdit, promiseWords } from "./words";

/** Promise of somebody that what they get in a place now stays so; without a level, anything that can be promised of them there. */
export function PromiseThis({
  who,
  place,
  level,
  over = null,
}: {
  who: string;
  place: string;
  level?: Level;
  over?: Promised["protocol"];
}) {
  const { index, canEdit, edit } = usePlan();
  if (!canEdit) return null;
  const name = who === "guest" ? "A guest" : whoName(index, who);
  const items = (level ? promisable(level) : ANYTHING).map((one) => ({
    key: promiseWords(one),
    label: `${name} ${promiseWords(one)} this${over ? ` over ${over.toUpperCase()}` : ""}`,
    onClick: () => void edit([promiseEdit(who, place, one, over)]),
  }));
  return (
    <Dropdown trigger={["click"]} menu={{ items }}>
      <Button size="small">{level ? "Promise that this stays so" : "Promise …"} ▾</Button>
    </Dropdown>
  );
}

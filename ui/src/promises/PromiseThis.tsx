import { MenuButton } from "../parts/Menu";
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
  const choices = (level ? promisable(level) : ANYTHING).map((one) => ({
    words: `${name} ${promiseWords(one)} this${over ? ` over ${over.toUpperCase()}` : ""}`,
    act: () => void edit([promiseEdit(who, place, one, over)]),
  }));
  return <MenuButton words={level ? "Promise that this stays so" : "Promise …"} choices={choices} />;
}

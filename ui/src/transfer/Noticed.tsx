import type { Preview } from "../api/client";
import { few, plural } from "../parts/plural";

type Note = Preview["notes"][number];
const HEADS: [Note["toward"][], string][] = [
  [["more", "either"], "Somebody may get more than the plan will say"],
  [["less"], "Somebody may get less than the plan will say"],
  [[null], "Noticed"],
];
const MOST = 3;

/** What was left out or how it was understood: first by what somebody may really get more of than the plan says. */
export function Noticed({ preview }: { preview: Preview }) {
  return HEADS.map(([towards, head]) => {
    const notes = preview.notes.filter((note) => towards.includes(note.toward));
    if (notes.length === 0) return null;
    return (
      <section key={head} aria-label={head}>
        <h3 style={{ fontSize: 13 }}>{head}</h3>
        <ul className="words" tabIndex={0}>
          {notes.map((note, number) => (
            <li key={number} className={note.missed > 0 ? "missed" : undefined}>
              {note.text}
              {note.toward === "either" && <b> (or less)</b>}
              <span className="muted">
                {note.where && ` — ${note.where}`}
                {note.shares > MOST && `; in ${plural(note.shares, "share")}`}
                {note.place_count > 0 && `; in ${few(note.places, MOST, note.place_count)}`}
              </span>
            </li>
          ))}
        </ul>
      </section>
    );
  });
}

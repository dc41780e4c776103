import type { Place } from "../api/client";
import { plural } from "../parts/plural";
import type { Style } from "./words";

const SHORT: Record<Style, string> = { ordered: "list", posix: "POSIX", mode: "bits" };

/** In the tree: the style where it begins, that nothing comes down, how many lines of its own are added, or that it just follows. */
export function Mark({ place, style, above, grants }: { place: Place; style: Style | null; above: Style | null; grants: number }) {
  const own = place.acl?.style === "ordered" ? place.acl.entries.length : place.acl?.style === "posix" ? place.acl.access.length : 0;
  const begins = style !== null && style !== above;
  const words =
    [
      begins ? `${SHORT[style]} begins here` : "",
      place.inheritance_stops ? "inheritance stops here: nothing comes down from above" : "",
      own ? `${own} lines by hand` : "",
      grants ? `${grants} grants` : "",
    ]
      .filter(Boolean)
      .join(", ") || (style ? "just follows" : "list not planned");
  return (
    <span className="kind muted" title={words}>
      {begins && SHORT[style]}{" "}
      {place.inheritance_stops ? (
        <b className="cut">own list only</b>
      ) : own + grants > 0 && (begins || place.parent) ? (
        plural(own + grants, "line")
      ) : style && !begins ? (
        "as above"
      ) : (
        ""
      )}
    </span>
  );
}

import { Button } from "antd";
import { Link } from "react-router";
import { usePlan } from "../plan/PlanContext";

/** What to do first, where the board has no rows or no columns. */
export function Empty() {
  const { id, outline, index } = usePlan();
  return (
    <div className="work">
      <div className="empty">
        <h2>The board begins with people and places</h2>
        <p className="muted">
          Its rows are people and groups, its columns the places of the storage tree. Bring them in from a table or a host's account files
          (Import, above), or add them by hand.
        </p>
        <div className="row" style={{ justifyContent: "center" }}>
          <Link to={`/p/${id}/people`}>
            <Button type={outline.users.length ? "default" : "primary"}>Add people and groups</Button>
          </Link>
          <Link to={`/p/${id}/storage`}>
            <Button type={index.places.size ? "default" : "primary"}>Add places</Button>
          </Link>
        </div>
      </div>
    </div>
  );
}

import { Link } from "react-router";
import type { Group, User } from "../api/client";
import { calledName, sourceName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";

/** Says that an account comes from a directory, by which name it signs in, and whether it is still there. */
export function From({ account }: { account: User | Group }) {
  const { id, index } = usePlan();
  const source = sourceName(index, account.id);
  return (
    <div className={account.gone ? "trouble" : "from"}>
      {account.gone ? (
        <>{source} no longer has this account. It gets nothing; what was granted stays until you take it away.</>
      ) : (
        <>
          From <Link to={`/p/${id}/directories`}>{source}</Link>: names, numbers and its groups are kept there.
        </>
      )}
      <br />
      <code>{calledName(index, account.id)}</code> <span className="muted">{account.sid ?? account.key}</span>
    </div>
  );
}

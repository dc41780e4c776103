import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, ask } from "../api/client";
import { Ago } from "../parts/Ago";
import { plural } from "../parts/plural";
import { KEYS, usePlan } from "../plan/PlanContext";
import { STAYS, useDirectories, useSince, useStanding, useStands } from "../plan/queries";

/** At the foot of every station: how the plan stands; each part opens its list. */
export function Strip({ onHistory }: { onHistory: () => void }) {
  const { id, outline, index, canEdit, live } = usePlan();
  const navigate = useNavigate();
  const base = `/p/${id}`;
  const stands = useStands().data;
  const off = (stands?.more ?? 0) + (stands?.less ?? 0);
  const latest = useQuery({
    queryKey: ["of-plan", id, ...KEYS.last],
    staleTime: STAYS,
    queryFn: async () => (await ask(api.GET("/api/v1/plans/{plan}/history", { params: { path: { plan: id }, query: { most: 1 } } })))[0]!,
  });
  const last = latest.data;
  const directories = useDirectories();
  const agreed = useStanding().data;
  const broken = agreed?.promises.filter((one) => one.broken > 0).length ?? 0;
  const found = agreed?.findings.filter((one) => one.open) ?? [];
  const serious = found.filter((one) => one.severity === "serious").length;
  const since = useSince().data;
  const shut = outline.inactive.length;
  const loose = outline.users.filter((user) => !index.groupsOf.has(user.id)).length;

  return (
    <footer className="strip">
      <span>
        <span className="dot" style={{ background: live ? "var(--rw)" : "var(--attention)" }} />
        {live
          ? canEdit
            ? "every change is kept at once"
            : outline.archived
              ? "archived, to be read"
              : "to be read"
          : "the server does not answer; trying again"}
      </span>
      {stands && (
        <button
          className={`plain ${off > 0 ? "late" : ""}`}
          title="What people get over the shares, beside what is granted to them"
          onClick={() => void navigate(`${base}/board?view=off`)}
        >
          {off === 0
            ? "everybody gets what is granted"
            : [stands.more > 0 && `${stands.more.toLocaleString()} get more`, stands.less > 0 && `${stands.less.toLocaleString()} get less`]
                .filter(Boolean)
                .join(", ")}
        </button>
      )}
      {agreed && (
        <button className={`plain ${serious > 0 ? "late" : ""}`} onClick={() => void navigate(`${base}/promises?show=findings`)}>
          {found.length === 0
            ? "nothing found"
            : serious > 0
              ? `${serious} serious of ${plural(found.length, "finding")}`
              : plural(found.length, "finding")}
        </button>
      )}
      {agreed && agreed.promises.length > 0 && (
        <button className={`plain ${broken > 0 ? "late" : ""}`} onClick={() => void navigate(`${base}/promises`)}>
          {broken === 0
            ? `${plural(agreed.promises.length, "promise")} kept`
            : `${agreed.promises.length - broken} of ${agreed.promises.length} promises kept`}
        </button>
      )}
      {outline.cycles.length > 0 && (
        <button className="plain" onClick={() => void navigate(`${base}/people?who=${encodeURIComponent(outline.cycles[0]![0]!)}`)}>
          {outline.cycles.length} {outline.cycles.length === 1 ? "circle" : "circles"} of groups
        </button>
      )}
      {loose > 0 && (
        <button className="plain" onClick={() => void navigate(`${base}/people?show=ungrouped`)}>
          {loose} in no group
        </button>
      )}
      {shut > 0 && (
        <button className="plain" onClick={() => void navigate(`${base}/people?show=shut`)}>
          {shut} disabled or expired
        </button>
      )}
      {directories.data?.map(({ directory, at }) => (
        <button key={directory.id} className="plain" onClick={() => void navigate(`${base}/directories`)}>
          {directory.name}{" "}
          {at ? (
            <>
              as of <Ago at={at} />
            </>
          ) : (
            "not read yet"
          )}
        </button>
      ))}
      {since?.revision != null && (since.changed.total > 0 || since.revision < outline.revision) && (
        <button className="plain late" onClick={() => void navigate(`${base}/rollout`)}>
          {since.changed.total > 0 ? `${plural(since.changed.total, "cell")} not on the appliance yet` : "changes not on the appliance yet"}
        </button>
      )}
      <span className="spread" />
      {last && (
        <button className="plain last" onClick={onHistory} title={`The last change: ${last.words}`}>
          revision {last.revision}, {last.by}, <Ago at={last.at} />
        </button>
      )}
    </footer>
  );
}

import { useQuery } from "@tanstack/react-query";
import { Select } from "antd";
import { useNavigate, useParams } from "react-router";
import { api, ask, message, type Level, type Schemas, type Share } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { calledName, hostPath, shownName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { connections, reachedAs } from "../shares/words";
import { Sheet } from "./Sheet";

const YOU: Record<Level, string> = {
  RW: "You can open, change, add and delete",
  RO: "You can open and copy, but not change",
  PT: "Only a way to what lies below",
  NA: "Closed to you",
};
type Reach = Schemas["ReachOut"];

/** What one person reaches, and what they type to get there: to print, or to send to them. */
export default function Card() {
  const { id, outline, index } = usePlan();
  const { who = "" } = useParams();
  const navigate = useNavigate();
  const card = useQuery({
    queryKey: ["of-plan", id, "card", who],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/card", { params: { path: { plan: id }, query: { who } } })),
    enabled: who !== "",
  });
  const user = outline.users.find((one) => one.id === who);
  const guest = who === "guest";
  const options = [
    ...outline.users.map((one) => ({ value: one.id, label: shownName(one) })).sort((a, b) => a.label.localeCompare(b.label)),
    { value: "guest", label: "A guest, without an account" },
  ];
  const pick = (
    <Select
      aria-label="Whose card"
      size="small"
      style={{ width: 260 }}
      showSearch={{ optionFilterProp: "label" }}
      value={who}
      options={options}
      onChange={(next: string) => void navigate(`/p/${id}/card/${encodeURIComponent(next)}`)}
    />
  );
  const groups = user ? outline.groups.filter((group) => group.members.includes(user.id)).map((group) => group.name) : [];
  const shut = user && outline.inactive.includes(user.id);
  return (
    <Sheet
      title={guest ? "Guests" : user ? shownName(user) : who}
      tools={pick}
      on={card.data?.on}
      about={
        guest ? (
          "What somebody without an account finds."
        ) : user ? (
          <>
            Signs in as <b>{calledName(index, user.id)}</b>
            {groups.length > 0 && `; in ${groups.join(", ")}`}
            {shut && <b className="late">; this account is disabled or expired</b>}
          </>
        ) : null
      }
    >
      {card.isError && <div className="trouble">{message(card.error)}</div>}
      {!card.data && !card.isError && <p role="status">Working out what they reach …</p>}
      {card.data?.reaches.length === 0 && <p>Nothing: no share lets {guest ? "guests" : "this account"} through to anything.</p>}
      {card.data?.pages && outline.services.some((service) => service.id === "pages" && service.allowed) && (
        <p>May sign in to the appliance’s administration pages.</p>
      )}
      {card.data?.reaches.map((reach) => (
        <Block
          key={`${reach.share} ${reach.protocol}`}
          reach={reach}
          share={outline.shares.find((share) => share.id === reach.share)!}
          appliance={reachedAs(outline)}
          folder={hostPath(index, outline.top, outline.shares.find((share) => share.id === reach.share)!.place)}
          inside={(place) => index.places.get(place)?.name ?? place}
        />
      ))}
    </Sheet>
  );
}

function Block({
  reach,
  share,
  appliance,
  folder,
  inside,
}: {
  reach: Reach;
  share: Share;
  appliance: string;
  folder: string;
  inside: (place: string) => string;
}) {
  const [top, ...below] = reach.stretches;
  const lines = connections({ ...share, smb: reach.protocol === "smb", nfs: reach.protocol === "nfs" }, appliance, folder);
  return (
    <section className="reach">
      <h2>
        {share.name} {reach.protocol === "nfs" && <span className="muted">over NFS, from the hosts that may mount it</span>}
        <span className="spread" />
        {top && <LevelTag level={top.level} long />}
      </h2>
      <p>
        {top && YOU[top.level]}
        {share.smb && reach.protocol === "smb" && share.hidden && "; it is not listed among the shares, so type its name"}.
      </p>
      {below.length > 0 && (
        <table>
          <tbody>
            {below.map((stretch) => (
              <tr key={stretch.place}>
                <td>{inside(stretch.place)}</td>
                <td>{YOU[stretch.level]}</td>
                <td>
                  <LevelTag level={stretch.level} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <dl>
        {lines.map(([system, line]) => (
          <div key={system}>
            <dt>{system}</dt>
            <dd>
              <code>{line}</code>
            </dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

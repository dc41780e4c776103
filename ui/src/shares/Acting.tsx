import { Select } from "antd";
import type { Share } from "../api/client";
import { isLocal, sourceName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useWhos } from "../storage/editors";

export type Put = (change: Partial<Share>) => Promise<boolean>;

/** As whom people act inside a share over SMB: themselves, one account for all, in one group more, or as root. */
export function Acting({ share, put }: { share: Share; put: Put }) {
  const { canEdit, index } = usePlan();
  const whos = useWhos();
  const followed = [...new Set(index.usersByName.filter((user) => !isLocal(user)).map((user) => sourceName(index, user.id)))];
  const users = [{ label: "Accounts", options: index.usersByName.map((user) => ({ value: user.id, label: user.full_name || user.name })) }];
  const groups = [{ label: "Groups", options: index.groupsByName.map((group) => ({ value: group.id, label: group.name })) }];
  const one = (
    label: string,
    placeholder: string,
    field: "administrator" | "acts_as" | "acts_as_group",
    options: ReturnType<typeof useWhos>,
  ) => (
    <label className="field">
      <span>{label}</span>
      <Select
        aria-label={label}
        showSearch={{ optionFilterProp: "label" }}
        allowClear
        disabled={!canEdit}
        style={{ width: "100%" }}
        placeholder={placeholder}
        value={share[field] ?? undefined}
        onChange={(who?: string) => void put({ [field]: who ?? null })}
        options={options}
      />
    </label>
  );
  return (
    <>
      {one("Acts as root in this share, over SMB", "nobody", "administrator", whos)}
      {one("All others act as, over SMB", "themselves", "acts_as", users)}
      {one("All are also in, over SMB", "no group besides their own", "acts_as_group", groups)}
      {share.acts_as_group && followed.length > 0 && (
        <p className="late">
          Inside, people of {followed.join(", ")} do not count as their primary group (mostly Domain Users): this one takes its place.
        </p>
      )}
    </>
  );
}

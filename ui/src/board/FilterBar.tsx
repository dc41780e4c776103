import { useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Input, Select } from "antd";
import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { Menu } from "../parts/Menu";
import { api, ask } from "../api/client";
import { pathName, pickName, shownName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { asAddress, FILTER_KEYS, type Filter } from "./filter";

const PAUSE = 50; // milliseconds
const find = { optionFilterProp: "label" } as const;
const KINDS = [
  { value: "", label: "all kinds" },
  { value: "person", label: "people" },
  { value: "service", label: "services" },
  { value: "group", label: "groups" },
];
const KEPT = [...FILTER_KEYS, "view", "rows", "over"];

interface View {
  name: string;
  search: string;
}
function kept(plan: string): View[] {
  try {
    return JSON.parse(localStorage.getItem(`views ${plan}`) ?? "[]") as View[];
  } catch {
    return [];
  }
}

/** Which rows, places and cells are shown; it stands in the address, and can be kept under a name. */
export function FilterBar({
  filter,
  onChange,
  onClose,
}: {
  filter: Filter;
  onChange: (change: Partial<Filter>) => void;
  onClose: () => void;
}) {
  const { id, outline, index } = usePlan();
  const [params, setParams] = useSearchParams();
  const [views, setViews] = useState(() => kept(id));
  const [naming, setNaming] = useState<string | null>(null);
  const versions = useQuery({
    queryKey: ["of-plan", id, "versions"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/versions", { params: { path: { plan: id } } })),
  });
  const keep = (next: View[]) => {
    localStorage.setItem(`views ${id}`, JSON.stringify(next));
    setViews(next);
  };
  const search = () => {
    const now = new URLSearchParams();
    for (const key of KEPT) if (params.get(key)) now.set(key, params.get(key)!);
    return now.toString();
  };
  const here = views.find((view) => view.search === search());
  const cells = [
    { value: "", label: "all cells" },
    { value: "personal", label: "personal grants" },
    { value: "fresh", label: "not on the appliance yet" },
    { value: "mine", label: "set by me" },
    ...(outline.needs.length > 0 ? [{ value: "needs", label: "otherwise than needed" }] : []),
    ...(versions.data ?? []).map((version) => ({ value: `version ${version.revision}`, label: `otherwise than “${version.name}”` })),
  ];
  return (
    <div className="tools filter" role="search" aria-label="Filter of the board">
      <Typed width={84} placeholder="rows …" label="Only rows with" value={filter.rows} onChange={(rows) => onChange({ rows })} />
      <Select
        size="small"
        aria-label="Kind of rows"
        popupMatchSelectWidth={false}
        value={filter.kind}
        onChange={(kind: Filter["kind"]) => onChange({ kind })}
        options={KINDS}
      />
      <Select
        size="small"
        allowClear
        aria-label="Only members of"
        placeholder="any group"
        style={{ width: 92 }}
        popupMatchSelectWidth={false}
        showSearch={find}
        value={filter.within || undefined}
        onChange={(within?: string) => onChange({ within: within ?? "" })}
        options={index.groupsByName.map((group) => ({ value: group.id, label: `in ${pickName(index, group.id)}` }))}
      />
      <Select
        size="small"
        mode="multiple"
        allowClear
        aria-label="Only these people"
        placeholder="everybody"
        style={{ minWidth: 98, maxWidth: 240 }}
        popupMatchSelectWidth={false}
        maxTagCount="responsive"
        showSearch={find}
        value={filter.people}
        onChange={(people: string[]) => onChange(people.length < 2 && filter.cells === "differ" ? { people, cells: "" } : { people })}
        options={index.usersByName.map((user) => ({ value: user.id, label: shownName(user) }))}
      />
      {filter.people.length > 1 && (
        <Checkbox checked={filter.cells === "differ"} onChange={(event) => onChange({ cells: event.target.checked ? "differ" : "" })}>
          where they differ
        </Checkbox>
      )}
      <Typed
        width={86}
        placeholder="places …"
        label="Only places with"
        value={filter.columns}
        onChange={(columns) => onChange({ columns })}
      />
      <Select
        size="small"
        allowClear
        aria-label="Only places in"
        placeholder="anywhere"
        style={{ width: 86 }}
        popupMatchSelectWidth={false}
        showSearch={find}
        value={filter.below || undefined}
        onChange={(below?: string) => onChange({ below: below ?? "" })}
        options={outline.places
          .filter((place) => (index.children.get(place.id) ?? []).length > 0)
          .map((place) => ({ value: place.id, label: `in ${pathName(index, place.id)}` }))}
      />
      {filter.cells !== "differ" && (
        <Select
          size="small"
          aria-label="Only cells"
          popupMatchSelectWidth={false}
          value={filter.cells === "version" ? `version ${filter.version}` : filter.cells}
          onChange={(value: string) =>
            onChange(
              value.startsWith("version ")
                ? { cells: "version", version: value.slice(8) }
                : { cells: value as Filter["cells"], version: "" },
            )
          }
          options={cells}
        />
      )}
      <Select
        size="small"
        allowClear
        aria-label="People sorted by what they get in"
        placeholder="by name"
        style={{ width: 86 }}
        popupMatchSelectWidth={false}
        showSearch={find}
        value={filter.sort || undefined}
        onChange={(sort?: string) => onChange({ sort: sort ?? "" })}
        options={outline.places.map((place) => ({ value: place.id, label: `most in ${pathName(index, place.id)} first` }))}
      />
      <span className="spread" />
      {naming === null ? (
        <Menu
          items={[
            ...views.map((view) => ({ key: `to ${view.name}`, label: view.name })),
            ...(views.length > 0 ? [{ type: "divider" as const }] : []),
            here ? { key: "forget", label: `Forget “${here.name}”` } : { key: "keep", label: "Keep this view …", disabled: !search() },
          ]}
          onChoose={(key) => {
            if (key === "keep") setNaming("");
            else if (key === "forget") keep(views.filter((view) => view !== here));
            else setParams(views.find((view) => `to ${view.name}` === key)!.search, { replace: true });
          }}
        >
          <Button size="small">{here ? here.name : "Views"} ▾</Button>
        </Menu>
      ) : (
        <Input
          size="small"
          autoFocus
          style={{ width: 150 }}
          placeholder="name, then Enter"
          aria-label="Name of the view"
          value={naming}
          onChange={(event) => setNaming(event.target.value)}
          onBlur={() => setNaming(null)}
          onKeyDown={(event) => {
            if (event.key === "Escape") setNaming(null);
            if (event.key !== "Enter" || !naming.trim()) return;
            keep([...views.filter((view) => view.name !== naming.trim()), { name: naming.trim(), search: search() }]);
            setNaming(null);
          }}
        />
      )}
      <Button size="small" title="Show all, and close the filter" onClick={onClose}>
        Show all
      </Button>
    </div>
  );
}

/** A text that is typed faster than the address follows: it is written there when one pauses, or leaves the field. */
function Typed({
  label,
  placeholder,
  width,
  value,
  onChange,
}: {
  label: string;
  placeholder: string;
  width: number;
  value: string;
  onChange: (text: string) => void;
}) {
  const [text, setText] = useState(value);
  const [known, setKnown] = useState(value);
  const timer = useRef<number | undefined>(undefined);
  if (known !== value) {
    setKnown(value);
    setText(value);
  }
  useEffect(() => () => window.clearTimeout(timer.current), []);
  const write = (next: string) => {
    window.clearTimeout(timer.current);
    if (next !== value) onChange(next);
  };
  return (
    <Input
      size="small"
      allowClear
      style={{ width }}
      placeholder={placeholder}
      aria-label={label}
      value={text}
      onChange={(event) => {
        const next = event.target.value;
        setText(next);
        window.clearTimeout(timer.current);
        timer.current = window.setTimeout(() => write(next), PAUSE);
      }}
      onPressEnter={() => write(text)}
      onBlur={() => write(text)}
    />
  );
}

export const changeOf = (change: Partial<Filter>) => ({ ...asAddress(change), who: null, place: null });

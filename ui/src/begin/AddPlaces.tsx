import { useQuery } from "@tanstack/react-query";
import { Input, Modal, Radio } from "antd";
import { useState } from "react";
import { api, ask, message } from "../api/client";
import { plural } from "../parts/plural";
import { useMore } from "../plan/more";
import { usePlan } from "../plan/PlanContext";

/** Places by their paths, many at once: a pool, datasets in it, folders below. */
export function AddPlaces({ onClose }: { onClose: () => void }) {
  const { id, outline } = usePlan();
  const more = useMore();
  const [text, setText] = useState("");
  const [use, setUse] = useState("mixed");
  const kinds = useQuery({
    queryKey: ["of-plan", id, "kinds", null],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/storage/kinds", { params: { path: { plan: id } } })),
  });
  const paths = text
    .split(/\r?\n/)
    .map((line) => line.trim().replace(/^\/+|\/+$/g, ""))
    .filter(Boolean);
  const pools = new Set(outline.places.filter((place) => place.kind === "pool").map((place) => place.name.toLowerCase()));
  const fresh = new Set(paths.map((path) => path.split("/")[0]!.toLowerCase()).filter((name) => !pools.has(name)));
  const add = async () => {
    if (await more.run({ do: "places", paths, start: use })) onClose();
  };
  return (
    <Modal
      title="Add places"
      open
      onCancel={onClose}
      okText={paths.length > 0 ? `Add ${plural(paths.length, "path")}` : "Add"}
      okButtonProps={{ disabled: paths.length === 0, loading: more.busy }}
      onOk={() => void add()}
    >
      <label className="field">
        <span>A path a line: the pool, a dataset in it, folders below. What is missing on the way is made, too.</span>
        <Input.TextArea
          autoFocus
          rows={7}
          value={text}
          placeholder={"store/drawings\nstore/office/quotes\nstore/office/wages"}
          onChange={(event) => setText(event.target.value)}
        />
      </label>
      {fresh.size > 0 && (
        <>
          <h3>What uses {fresh.size === 1 ? `the pool ${[...fresh][0]}` : "these pools"}?</h3>
          {kinds.isError && <div className="trouble">{message(kinds.error)}</div>}
          <Radio.Group className="uses" value={use} onChange={(event) => setUse(event.target.value as string)}>
            {kinds.data
              ?.filter((one) => !one.id.startsWith("service-"))
              .map((one) => (
                <Radio key={one.id} value={one.id}>
                  <b>{one.title}</b>
                  <span className="muted">{one.words}</span>
                </Radio>
              ))}
          </Radio.Group>
        </>
      )}
      {more.trouble && (
        <div className="trouble" role="alert">
          {more.trouble}
        </div>
      )}
    </Modal>
  );
}

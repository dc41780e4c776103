import { useMutation } from "@tanstack/react-query";
import { Button, Input, Modal } from "antd";
import { useState } from "react";
import { api, ask, message, type Directory, type MappingOut } from "../api/client";
import { plural } from "../parts/plural";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { NUMBERING } from "./words";

type Numbering = NonNullable<Directory["numbering"]>;

/** Another way of giving numbers: whose number moves, and on which places the old one is written down, before it is kept. */
export function Numbers({ directory, onClose }: { directory: Directory; onClose: () => void }) {
  const { id, outline, index, take } = usePlan();
  const [numbering, setNumbering] = useState<Numbering>(directory.numbering ?? "offset");
  const [low, setLow] = useState(String(directory.low ?? 100_000));
  const [high, setHigh] = useState(String(directory.high ?? 999_999));
  const [found, setFound] = useState<MappingOut | null>(null);
  const body = { revision: outline.revision, numbering, low: Number(low), high: Number(high) };
  const params = { path: { plan: id }, query: { directory: directory.id } };
  const look = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/plans/{plan}/directories/mapping", { params, body })),
    onSuccess: setFound,
  });
  const keep = useMutation({
    mutationFn: async () => take(await ask(api.POST("/api/v1/plans/{plan}/directories/mapping/keep", { params, body }))),
    onSuccess: onClose,
  });
  const good = /^\d{1,10}$/.test(low) && /^\d{1,10}$/.test(high);
  const places = (ids: string[]) => ids.map((place) => pathName(index, place)).join(", ");
  const shown = (number: number | null) => (number === null ? "none" : number);
  return (
    <Modal
      title={`Numbers of ${directory.name}`}
      open
      width={720}
      onCancel={onClose}
      cancelText="Cancel"
      okText="Assign these numbers"
      okButtonProps={{ disabled: !found || found.edits === 0, danger: (found?.moved ?? 0) > 0, loading: keep.isPending }}
      onOk={() => keep.mutate()}
    >
      <p className="muted">
        The appliance writes numbers, not names, on files. Where an account gets another number, what it owns and what lists say of it must
        be written anew there.
      </p>
      <div role="radiogroup" aria-label="How accounts get their numbers">
        {(Object.keys(NUMBERING) as Numbering[]).map((one) => (
          <label key={one} className="row">
            <input
              type="radio"
              name="numbering"
              checked={numbering === one}
              onChange={() => {
                setNumbering(one);
                setFound(null);
              }}
            />
            {NUMBERING[one]}
          </label>
        ))}
      </div>
      {numbering !== "directory" && (
        <div className="row" style={{ margin: "8px 0" }}>
          from{" "}
          <Input
            size="small"
            aria-label="Lowest number"
            style={{ width: 110 }}
            value={low}
            onChange={(event) => {
              setLow(event.target.value);
              setFound(null);
            }}
          />
          to{" "}
          <Input
            size="small"
            aria-label="Highest number"
            style={{ width: 110 }}
            value={high}
            onChange={(event) => {
              setHigh(event.target.value);
              setFound(null);
            }}
          />
          {!good && <span className="late">whole numbers are needed</span>}
        </div>
      )}
      <Button size="small" disabled={!good} loading={look.isPending} onClick={() => look.mutate()}>
        See whose number moves
      </Button>
      {(look.isError || keep.isError) && (
        <div className="trouble" role="alert">
          {message(look.error ?? keep.error)}
        </div>
      )}
      {found && (
        <>
          <h3>
            {found.moved === 0
              ? "Nobody's number moves"
              : `${plural(found.moved, "account gets another number", "accounts get another number")}`}
          </h3>
          {found.moves.length > 0 && (
            <div className="scroll" tabIndex={0}>
              <table className="moves">
                <thead>
                  <tr>
                    <th>Account</th>
                    <th>has</th>
                    <th>gets</th>
                    <th>to be rewritten on</th>
                  </tr>
                </thead>
                <tbody>
                  {found.moves.map((move) => (
                    <tr key={move.who}>
                      <td>{whoName(index, move.who)}</td>
                      <td>{shown(move.was)}</td>
                      <td>{shown(move.becomes)}</td>
                      <td>
                        {move.owns.length > 0 && <>owns {places(move.owns)}</>}
                        {move.owns.length > 0 && move.listed.length > 0 && "; "}
                        {move.listed.length > 0 && <>in the list of {places(move.listed)}</>}
                        {move.owns.length + move.listed.length === 0 && <span className="muted">no place of the plan</span>}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {found.moved > found.moves.length && (
                <p className="muted">… and {(found.moved - found.moves.length).toLocaleString()} more.</p>
              )}
            </div>
          )}
          {found.trouble_count > 0 && (
            <>
              <h3>{plural(found.trouble_count, "thing")} to look at afterwards</h3>
              <ul className="words" tabIndex={0}>
                {found.troubles.map((trouble, number) => (
                  <li key={number}>
                    <b>{trouble.kind}</b> {trouble.words}
                  </li>
                ))}
                {found.trouble_count > found.troubles.length && (
                  <li className="muted">… and {(found.trouble_count - found.troubles.length).toLocaleString()} more</li>
                )}
              </ul>
            </>
          )}
        </>
      )}
    </Modal>
  );
}

import { useInfiniteQuery } from "@tanstack/react-query";
import { Button, Drawer, Input } from "antd";
import { useState } from "react";
import { api, ask, message } from "../api/client";
import { Ago } from "../parts/Ago";

const PAGE = 200;

/** What was done in this installation besides plans: it is added to, and never changed. */
export default function Audit({ onClose }: { onClose: () => void }) {
  const [text, setText] = useState("");
  const found = useInfiniteQuery({
    queryKey: ["audit"],
    initialPageParam: undefined as number | undefined,
    queryFn: ({ pageParam }) => ask(api.GET("/api/v1/audit", { params: { query: { most: PAGE, before: pageParam } } })),
    getNextPageParam: (last) => (last.length === PAGE ? last[last.length - 1]!.number : undefined),
  });
  const wanted = text.trim().toLowerCase();
  const all = found.data?.pages.flat() ?? [];
  const shown = all.filter((one) => `${one.by} ${one.what} ${one.about} ${one.address}`.toLowerCase().includes(wanted));
  return (
    <Drawer title="Audit log" open onClose={onClose} size={760}>
      <p className="muted">
        Who signed in and who could not, accounts, where plans go, what was read from hosts and put there. Changes of plans stand in their
        history. Nothing here can be changed or removed.
      </p>
      <Input
        allowClear
        placeholder="Only with this name, address or word"
        aria-label="Only with this name, address or word"
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      {found.isError && (
        <div className="trouble">
          {message(found.error)}{" "}
          <Button size="small" onClick={() => void found.refetch()}>
            Try again
          </Button>
        </div>
      )}
      {found.isPending && (
        <div className="loading" role="status">
          Loading …
        </div>
      )}
      <table className="list">
        <thead>
          <tr>
            <th>When</th>
            <th>Who</th>
            <th>What</th>
            <th>From</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((one) => (
            <tr key={one.number}>
              <td className="muted nowrap">
                <Ago at={one.at} />
              </td>
              <td>{one.by}</td>
              <td>
                <span className={one.what.includes("failed") ? "late" : ""}>{one.what}</span>
                {one.about && <div className="muted">{one.about}</div>}
              </td>
              <td className="muted">{one.address || "the server itself"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {!found.isPending && shown.length === 0 && <p className="muted">{wanted ? "No entry matches." : "Nothing yet."}</p>}
      {found.hasNextPage && (
        <p>
          <Button size="small" loading={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
            Earlier
          </Button>
        </p>
      )}
    </Drawer>
  );
}

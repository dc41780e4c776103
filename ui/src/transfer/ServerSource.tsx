import { Input } from "antd";
import { useQuery } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import { toBase64 } from "../parts/Source";
import { usePlan } from "../plan/PlanContext";

/** A whole file server: its files, several at once; or what is on the appliance now. */
export function ServerSource({
  files,
  tops,
  onFiles,
  onTops,
}: {
  files: { name: string }[];
  tops: string | null;
  onFiles: (files: { name: string; content: string }[]) => void;
  onTops: (tops: string | null) => void;
}) {
  const { id } = usePlan();
  const where = useQuery({
    queryKey: ["of-plan", id, "destination"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/rollout/destination", { params: { path: { plan: id } } })),
  });
  const reachable = where.data?.kind === "ssh" || where.data?.kind === "here";
  const choose = async (chosen: FileList | null) =>
    onFiles(
      await Promise.all(
        [...(chosen ?? [])].map(async (file) => ({ name: file.name, content: toBase64(new Uint8Array(await file.arrayBuffer())) })),
      ),
    );
  return (
    <div style={{ display: "grid", gap: 10, marginBottom: 10 }}>
      <label className="field">
        <span>
          Files copied from it: /etc/passwd, /etc/group, smb.conf and what it includes, /etc/exports, what{" "}
          <code>getfacl -R -p FOLDERS &gt; lists.txt</code> and <code>pdbedit -L -v &gt; smb-accounts.txt</code> said
        </span>
        <input
          type="file"
          multiple
          className="file"
          aria-label="Files of the server"
          onChange={(event) => void choose(event.target.files)}
        />
        {files.length > 0 && <span className="muted">{files.map((file) => file.name).join(", ")}</span>}
      </label>
      {reachable ? (
        <label className="field">
          <span>
            Or read {where.data?.kind === "ssh" ? where.data.host : "this machine"} now, with the lists of these folders and all in them
          </span>
          <Input value={tops ?? ""} placeholder="/srv/keel /srv/ballast" onChange={(event) => onTops(event.target.value || null)} />
        </label>
      ) : (
        <p className="muted">Where the plan goes to a server that can be reached (Rollout, “to …”), it can be read from here.</p>
      )}
    </div>
  );
}

import { useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Input, Modal } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { Brand, signOut } from "../frame/Brand";
import { api, ask, message, type PlanHead, type Session } from "../api/client";

type Dialog = { kind: "new" } | { kind: "copy" | "rename"; plan: PlanHead };

/** All plans of this installation: one for each appliance. */
export default function Plans({ session }: { session: Session }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { message: toast } = App.useApp();
  const plans = useQuery({ queryKey: ["plans"], queryFn: () => ask(api.GET("/api/v1/plans")), refetchOnMount: "always" });
  const [dialog, setDialog] = useState<Dialog | null>(null);
  const canEdit = session.role === "planner" || session.role === "administrator";
  const archive = async (plan: PlanHead) => {
    try {
      await ask(api.PUT("/api/v1/plans/{plan}/archived", { params: { path: { plan: plan.id } }, body: { archived: !plan.archived } }));
      await client.invalidateQueries({ queryKey: ["plans"] });
    } catch (error) {
      toast.error(message(error));
    }
  };
  return (
    <>
      <header className="bar" style={{ height: 46 }}>
        <Brand />
        <span className="spread" />
        {session.name}
        <button className="plain" onClick={() => void signOut()}>
          Sign out
        </button>
      </header>
      <main className="page" style={{ height: "calc(100% - 46px)" }}>
        <div className="sheet-card">
          <div className="row" style={{ marginBottom: 12 }}>
            <h2 style={{ fontSize: 18 }}>Plans</h2>
            <span className="muted">one for each appliance</span>
            <span className="spread" />
            {canEdit && (
              <Button type="primary" onClick={() => setDialog({ kind: "new" })}>
                New plan
              </Button>
            )}
          </div>
          {plans.isError && (
            <div className="trouble">
              {message(plans.error)}{" "}
              <Button size="small" onClick={() => void plans.refetch()}>
                Try again
              </Button>
            </div>
          )}
          {plans.isPending && <p role="status">Reading …</p>}
          {plans.data?.length === 0 && !canEdit && (
            <div className="empty">
              <h2>No plan for you yet</h2>
              <p className="muted">An administrator says which plans you may see and change.</p>
            </div>
          )}
          {plans.data?.length === 0 && canEdit && (
            <div className="empty">
              <h2>No plan yet</h2>
              <p className="muted">
                Make one for your file server. Then bring in its people, from a table or its passwd and group files, and the places on it.
              </p>
            </div>
          )}
          {plans.data && plans.data.length > 0 && (
            <table className="list plans">
              <thead>
                <tr>
                  <th>Appliance</th>
                  <th>Office</th>
                  <th className="figure">People</th>
                  <th className="figure">Groups</th>
                  <th className="figure">Places</th>
                  <th className="figure">Grants</th>
                  <th className="figure">Revision</th>
                  <th>
                    <span className="sr">Acts</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {plans.data.map((plan) => (
                  <tr key={plan.id}>
                    <td>
                      <Link to={`/p/${plan.id}/board`}>
                        <b>{plan.name}</b>
                      </Link>{" "}
                      {plan.archived && <span className="count">archived</span>}
                      {plan.trouble && <div className="late">{plan.trouble}</div>}
                    </td>
                    <td>{plan.office}</td>
                    <td className="figure">
                      {plan.people}
                      {plan.services > 0 && <span className="muted"> + {plan.services} services</span>}
                    </td>
                    <td className="figure">{plan.groups}</td>
                    <td className="figure">{plan.places}</td>
                    <td className="figure">{plan.grants}</td>
                    <td className="figure">{plan.revision}</td>
                    <td className="acts">
                      {canEdit && (
                        <>
                          <Button size="small" type="text" disabled={plan.archived} onClick={() => setDialog({ kind: "rename", plan })}>
                            Rename
                          </Button>
                          <Button size="small" type="text" onClick={() => setDialog({ kind: "copy", plan })}>
                            Copy
                          </Button>
                          <Button size="small" type="text" onClick={() => void archive(plan)}>
                            {plan.archived ? "Unarchive" : "Archive"}
                          </Button>
                        </>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </div>
        {dialog && (
          <PlanDialog
            dialog={dialog}
            onClose={(made) => {
              setDialog(null);
              void client.invalidateQueries({ queryKey: ["plans"] });
              if (made) void navigate(`/p/${made}/${dialog.kind === "new" ? "begin" : "board"}`);
            }}
          />
        )}
      </main>
    </>
  );
}

function PlanDialog({ dialog, onClose }: { dialog: Dialog; onClose: (made: string | null) => void }) {
  const [name, setName] = useState(dialog.kind === "new" ? "" : dialog.kind === "copy" ? `${dialog.plan.name} copy` : dialog.plan.name);
  const [office, setOffice] = useState(dialog.kind === "new" ? "" : dialog.plan.office);
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const go = async () => {
    setBusy(true);
    setTrouble("");
    try {
      if (dialog.kind === "new") onClose((await ask(api.POST("/api/v1/plans", { body: { name: name.trim(), office: office.trim() } }))).id);
      else if (dialog.kind === "copy")
        onClose(
          (await ask(api.POST("/api/v1/plans/{plan}/copy", { params: { path: { plan: dialog.plan.id } }, body: { name: name.trim() } })))
            .id,
        );
      else {
        await ask(
          api.POST("/api/v1/plans/{plan}/edits", {
            params: { path: { plan: dialog.plan.id } },
            body: { revision: dialog.plan.revision, edits: [{ op: "set-title", name: name.trim(), office: office.trim() }] },
          }),
        );
        onClose(null);
      }
    } catch (error) {
      setTrouble(message(error));
    } finally {
      setBusy(false);
    }
  };
  const title = { new: "New plan", copy: "Copy the plan", rename: "Rename the plan" }[dialog.kind];
  return (
    <Modal
      title={title}
      open
      onCancel={() => onClose(null)}
      okText={dialog.kind === "new" ? "Create" : dialog.kind === "copy" ? "Copy" : "Rename"}
      okButtonProps={{ disabled: !name.trim(), loading: busy }}
      onOk={() => void go()}
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim()) void go();
        }}
      >
        <label className="field">
          <span>Appliance</span>
          <Input autoFocus value={name} maxLength={255} onChange={(event) => setName(event.target.value)} />
        </label>
        {dialog.kind !== "copy" && (
          <label className="field">
            <span>Office</span>
            <Input value={office} maxLength={255} onChange={(event) => setOffice(event.target.value)} />
          </label>
        )}
        <button type="submit" hidden />
      </form>
      {trouble && (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      )}
    </Modal>
  );
}

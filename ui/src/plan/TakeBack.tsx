import { useQuery } from "@tanstack/react-query";
import { Button, Modal } from "antd";
import { api, ask, message, type Answer, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";

/** The step that undo would take back is somebody else's: says whose, and offers one's own in its place. */
export function TakeBack({
  plan,
  step,
  me,
  onTheirs,
  onMine,
  onClose,
}: {
  plan: string;
  step: Schemas["HistoryStep"];
  me: string;
  onTheirs: () => void;
  onMine: (revision: number) => Promise<Answer | null>;
  onClose: () => void;
}) {
  const mine = useQuery({
    queryKey: ["of-plan", plan, "history", "mine", me, step.revision],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/history", { params: { path: { plan }, query: { by: me, most: 20 } } })),
  });
  const own = mine.data?.find((entry) => ["edit", "import", "return"].includes(entry.kind));
  return (
    <Modal
      title={`The last change is by ${step.by}`}
      open
      onCancel={onClose}
      footer={
        <>
          <Button onClick={onClose}>Cancel</Button>
          {own && (
            <Button type="primary" onClick={() => void onMine(own.revision).then(onClose)}>
              Take back my own
            </Button>
          )}
          <Button
            danger
            onClick={() => {
              onClose();
              onTheirs();
            }}
          >
            Take back {step.by}’s
          </Button>
        </>
      }
    >
      <p>
        <b>{step.by}</b>, <Ago at={step.at} />: {step.words}
      </p>
      {own ? (
        <p>
          <b>Your own</b>, <Ago at={own.at} />: {own.words}
          <br />
          <span className="muted">What was changed after it stays.</span>
        </p>
      ) : (
        mine.data && <p className="muted">You have changed nothing in this plan that could be taken back.</p>
      )}
      {mine.isError && <div className="trouble">{message(mine.error)}</div>}
    </Modal>
  );
}

import { Modal } from "antd";

const KEYS: [string, string][] = [
  ["Arrows, Home, End, Page Up, Page Down", "move; with Shift, select a block; with Ctrl, go to the edge"],
  ["w", "read-write"],
  ["r", "read-only"],
  ["n", "no access (a refusal)"],
  ["Backspace", "not set"],
  ["Alt + w, r, n, Backspace", "show what it would change, keep nothing (Escape ends it)"],
  ["Ctrl + Z, Ctrl + Shift + Z", "undo, redo"],
  ["Ctrl + C, Ctrl + V", "copy and paste a block, also to and from a spreadsheet"],
  ["Enter", "to the reason on the right; Tab goes on from there"],
  ["Space", "fold or unfold a group; among memberships, join or leave"],
  ["Shift + Space", "fold or unfold what lies in a place; among memberships, choose the row for an act on several"],
  ["Ctrl + A, Escape", "among memberships: choose all rows, let them go"],
  ["/", "find a person, group or place"],
  ["?", "these keys"],
];

export function Keys({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Modal title="Keys" open={open} onCancel={onClose} footer={null} width={560}>
      <table className="list">
        <tbody>
          {KEYS.map(([key, what]) => (
            <tr key={key}>
              <td style={{ width: 210 }}>
                <b>{key}</b>
              </td>
              <td>{what}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Modal>
  );
}

import type { VisitOut } from "../api/client";

/** What somebody finds, in a few words. */
export function finding(visit: VisitOut, file: boolean, listed: boolean): string {
  if (file) {
    if (!visit.lists && !visit.reads) return "none to be seen";
    const can = [...(visit.reads ? ["reads"] : []), ...(visit.changes ? ["saves"] : []), ...(visit.adds ? ["adds"] : []), ...(visit.deletes ? ["deletes"] : [])];
    return can.join(", ") || "seen, refused";
  }
  const aside = listed ? "" : "not listed; ";
  if (!visit.shown) return "not shown to them";
  if (!visit.enters) return listed ? "seen, refused" : "not listed; refused";
  const can = ["opens", ...(visit.changes && visit.adds ? ["saves"] : visit.reads ? ["reads"] : []), ...(visit.adds && !visit.changes ? ["drops files"] : []), ...(!visit.lists ? ["names hidden"] : [])];
  return aside + can.join(", ");
}

/** What a client would say, where it says anything. */
export function clientSays(visit: VisitOut, protocol: "smb" | "nfs", shareTop: boolean): string | null {
  if (protocol === "nfs") {
    if (visit.gate.kind === "service") return "mount: Connection refused";
    if (visit.gate.kind === "share" && visit.level === "NA") return "mount: access denied by server";
    if (!visit.enters) return "Permission denied";
    return visit.level === "RO" && visit.gate.kind === "share" ? "Read-only file system" : visit.changes ? null : "Permission denied";
  }
  if (visit.gate.kind === "account") return "The user name or password is wrong.";
  if (!visit.shown && shareTop) return "Access to this share is refused.";
  if (!visit.enters) return "You have no permission to open this folder.";
  return visit.changes ? null : "You have no permission to save here.";
}

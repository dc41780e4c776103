import type { VisitOut } from "../api/client";
import type { Client, Walker } from "./walkers";

/** What somebody finds, in a few words. */
export function finding(visit: VisitOut, file: boolean, listed: boolean): string {
  if (file) {
    if (!visit.lists && !visit.reads) return "none to be seen";
    const can = [
      ...(visit.reads ? ["reads"] : []),
      ...(visit.changes ? ["saves"] : []),
      ...(visit.adds ? ["adds"] : []),
      ...(visit.deletes ? ["deletes"] : []),
    ];
    return can.join(", ") || "seen, refused";
  }
  const aside = listed ? "" : "not listed; ";
  if (!visit.shown) return "not shown to them";
  if (!visit.enters) return listed ? "seen, refused" : "not listed; refused";
  const can = [
    "opens",
    ...(visit.changes && visit.adds ? ["saves"] : visit.reads ? ["reads"] : []),
    ...(visit.adds && !visit.changes ? ["drops files"] : []),
    ...(!visit.lists ? ["names hidden"] : []),
  ];
  return aside + can.join(", ");
}

const SAYS: Record<Client, { account: string; share: string; folder: string; save: string }> = {
  windows: {
    account: "The user name or password is incorrect.",
    share: "You do not have permission to access this share. Contact your network administrator.",
    folder: "You don’t currently have permission to access this folder.",
    save: "You need permission to perform this action.",
  },
  macos: {
    account: "The user name or password is not valid.",
    share: "You do not have permission to access this server.",
    folder: "The folder can’t be opened because you don’t have permission to see its contents.",
    save: "The operation can’t be completed because you don’t have permission.",
  },
  linux: {
    account: "NT_STATUS_LOGON_FAILURE, or mount error(13): Permission denied",
    share: "NT_STATUS_ACCESS_DENIED, or mount error(13): Permission denied",
    folder: "Permission denied",
    save: "Permission denied",
  },
};

/** What a client would say, where it says anything. */
export function clientSays(visit: VisitOut, { protocol, client }: Walker, shareTop: boolean): string | null {
  if (protocol === "nfs") {
    if (visit.gate.kind === "service") return "mount: Connection refused";
    if (visit.gate.kind === "share" && visit.level === "NA") return "mount: access denied by server";
    if (!visit.enters) return "Permission denied";
    return visit.level === "RO" && visit.gate.kind === "share" ? "Read-only file system" : visit.changes ? null : "Permission denied";
  }
  const says = SAYS[client];
  if (visit.gate.kind === "account") return says.account;
  if (!visit.shown && shareTop) return says.share;
  if (!visit.enters) return says.folder;
  return visit.changes ? null : says.save;
}

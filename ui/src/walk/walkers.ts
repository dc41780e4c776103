/** What somebody sits at: it shows what the server says in its own way. */
export type Client = "windows" | "macos" | "linux";

export const CLIENTS: { value: Client; label: string }[] = [
  { value: "windows", label: "Windows" },
  { value: "macos", label: "macOS" },
  { value: "linux", label: "Linux" },
];

/** Somebody who walks: an id, or over NFS numbers as uid:gid,gid,…; over which protocol and from what; for NFS from which address and, after a space, name. */
export interface Walker {
  who: string;
  protocol: "smb" | "nfs";
  host: string;
  client: Client;
}

/** As it stands in the address: who, protocol, host and client of each, with what may stand between them taken care of. */
export const encoded = (walkers: Walker[]) =>
  walkers.map((one) => [one.who, one.protocol, one.host, one.client].map(encodeURIComponent).join("~")).join("!");

export function decoded(text: string): Walker[] {
  return text
    .split("!")
    .filter(Boolean)
    .slice(0, 4)
    .map((one) => {
      const [who, protocol, host, client] = one.split("~").map((part) => {
        try {
          return decodeURIComponent(part);
        } catch {
          return part;
        }
      });
      return {
        who: who ?? "",
        protocol: protocol === "nfs" ? "nfs" : "smb",
        host: host ?? "",
        client: CLIENTS.find(({ value }) => value === client)?.value ?? "windows",
      };
    });
}

/** Address and name of the host, as the server is asked. */
export function hostOf(walker: Walker): { host: string | undefined; name: string | undefined } {
  const [host, name] = walker.protocol === "nfs" ? walker.host.trim().split(/\s+/) : [];
  return { host: host || undefined, name };
}

/** Numbers that a client claims over NFS. */
export const claims = (text: string) => /^\d+(:\d+(,\d+)*)?$/.test(text);

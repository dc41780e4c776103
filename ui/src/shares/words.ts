import type { Level, Outline, Share } from "../api/client";

/** What can be given at a share. */
export const GIVEN: Level[] = ["NA", "RO", "RW"];

export const PROTOCOLS: ["smb" | "nfs", string][] = [
  ["smb", "SMB"],
  ["nfs", "NFS"],
];

export type ServiceId = "smb" | "nfs" | "pages";
export const SERVICES: [ServiceId, string][] = [
  ["smb", "SMB"],
  ["nfs", "NFS"],
  ["pages", "administration pages"],
];

/** What there is to say of a share besides what it offers to whom. */
export function marks(share: Share): string[] {
  return [
    ...(share.read_only ? ["read-only"] : []),
    ...(share.smb && share.hidden ? ["not listed"] : []),
    ...(share.smb && share.hide_unreadable ? ["hides what one cannot read"] : []),
    ...(share.smb && share.versions ? ["shows earlier versions"] : []),
    ...(share.smb && share.recycle ? ["keeps what is deleted"] : []),
    ...(share.nfs
      ? [share.hosts?.length ? share.hosts.map((rule) => `${rule.hosts} ${rule.level}`).join(", ") : "no host may mount it"]
      : []),
    ...(share.nfs && share.squash !== "root" ? [share.squash === "all" ? "everybody is the guest" : "root is not squashed"] : []),
  ];
}

/** A word of fstab(5): blanks and what else would end or begin something there, in octal. */
const word = (text: string) => text.replace(/[ \t\n\\#]/g, (char) => `\\${char.charCodeAt(0).toString(8).padStart(3, "0")}`);

/** By which name clients reach the server: the usual one, where the plan says any. */
export const reachedAs = (outline: Pick<Outline, "name" | "target">): string => outline.target.addresses[0] ?? outline.name;

/** An address as it stands in a path: of IPv6 with hyphens for Windows (MS-DTYP, 2.2.57), in brackets elsewhere. */
const windows = (address: string) => (address.includes(":") ? `${address.replaceAll(":", "-")}.ipv6-literal.net` : address);
const bracketed = (address: string) => (address.includes(":") ? `[${address}]` : address);

/** How clients connect: what to type, by system. path: of the shared folder, on the appliance. */
export function connections(share: Share, appliance: string, path: string): [string, string][] {
  const safe = encodeURIComponent(share.name);
  return [
    ...(share.smb
      ? ([
          ["Windows", `\\\\${windows(appliance)}\\${share.name}`],
          ["macOS, Linux desktops", `smb://${bracketed(appliance)}/${safe}`],
          [
            "Linux, /etc/fstab",
            `//${windows(appliance)}/${word(share.name)} /mnt/${safe} cifs credentials=/etc/${safe}.cred,uid=1000,_netdev 0 0`,
          ],
        ] as [string, string][])
      : []),
    ...(share.nfs
      ? ([["NFS, /etc/fstab", `${bracketed(appliance)}:${word(path)} /mnt/${safe} nfs4 _netdev 0 0`]] as [string, string][])
      : []),
  ];
}

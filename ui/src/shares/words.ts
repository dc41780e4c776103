import type { Share } from "../api/client";

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

/** How clients connect: what to type, by system. */
export function connections(share: Share, appliance: string, path: string): [string, string][] {
  const safe = encodeURIComponent(share.name);
  return [
    ...(share.smb
      ? ([
          ["Windows", `\\\\${appliance}\\${share.name}`],
          ["macOS, Linux desktops", `smb://${appliance}/${safe}`],
          [
            "Linux, /etc/fstab",
            `//${appliance}/${share.name.replaceAll(" ", "\\040")} /mnt/${safe} cifs credentials=/etc/${safe}.cred,uid=1000,_netdev 0 0`,
          ],
        ] as [string, string][])
      : []),
    ...(share.nfs
      ? ([["NFS, /etc/fstab", `${appliance}:/${path.split(" / ").join("/").replaceAll(" ", "\\040")} /mnt/${safe} nfs4 _netdev 0 0`]] as [
          string,
          string,
        ][])
      : []),
  ];
}

/** Somebody who walks: over which protocol, and for NFS from which address. */
export interface Walker {
  who: string;
  protocol: "smb" | "nfs";
  host: string;
}

/** As it stands in the address: who, protocol and host of each, with what may stand between them taken care of. */
export const encoded = (walkers: Walker[]) => walkers.map((one) => [one.who, one.protocol, one.host].map(encodeURIComponent).join("~")).join("!");

export function decoded(text: string): Walker[] {
  return text.split("!").filter(Boolean).slice(0, 4).map((one) => {
    const [who, protocol, host] = one.split("~").map((part) => { try { return decodeURIComponent(part); } catch { return part; } });
    return { who: who ?? "", protocol: protocol === "nfs" ? "nfs" : "smb", host: host ?? "" };
  });
}

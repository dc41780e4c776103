import type { Directory } from "../api/client";

export const SCHEMAS: Record<NonNullable<Directory["schema"]>, string> = {
  ad: "Active-Directory-compatible domain",
  rfc2307: "LDAP, groups by sign-in name (RFC 2307)",
  rfc2307bis: "LDAP, groups by entry (RFC 2307bis)",
};
export const NUMBERING: Record<NonNullable<Directory["numbering"]>, string> = {
  offset: "Start of the range plus the account's RID",
  directory: "The numbers that the directory says (uidNumber, gidNumber)",
  table: "The next free number of the range, remembered",
};
/** The name base of a domain, as it most often is: DC=office,DC=example. */
export const baseOf = (domain: string) =>
  domain
    .split(".")
    .filter(Boolean)
    .map((part) => `DC=${part}`)
    .join(",");

/** The sign-in name that a full name suggests: first and last, in plain letters. */
export function proposed(fullName: string): string {
  const parts = fullName
    .normalize("NFKD")
    .toLowerCase()
    .replace(/[^a-z\s-]/g, "")
    .trim()
    .split(/\s+/)
    .filter(Boolean);
  return parts.length > 1 ? `${parts[0]}.${parts.at(-1)}` : (parts[0] ?? "");
}

/** The names on pasted lines: of people the full one, and behind a tab, semicolon or comma the sign-in name; of others just the name. Lines that say nothing are left out. */
export function pasted(text: string, kind: "person" | "service" | "group"): { name: string; full_name: string }[] {
  return text
    .split(/\r?\n/)
    .map((line) => line.split(kind === "person" ? /[\t;,]/ : /\t/).map((part) => part.trim()))
    .map(([first = "", second = ""]) =>
      kind === "person" ? { name: second || proposed(first), full_name: first } : { name: first, full_name: "" },
    )
    .filter((one) => one.name !== "");
}

// What the audit log is asked for.
import { local } from "../../lib/format";

/** instant is the beginning of a day of the viewer's own, or of one so many days later; undefined: no day is named. */
export function instant(day: string, plus = 0): string | undefined {
  if (!day) return undefined;
  const [y, m, d] = day.split("-").map(Number);
  return new Date(y!, m! - 1, d! + plus).toISOString();
}

/** exported is the address of a file of the entries that are meant. */
export function exported(format: string, query: Record<string, string | undefined>): string {
  const q = new URLSearchParams({ format });
  for (const [name, value] of Object.entries(query)) if (value) q.set(name, value);
  return `/api/v1/audit/export?${q}`;
}

/** inWords says which entries are meant. */
export function inWords(query: Record<string, string | undefined>): string {
  const parts = Object.entries(query)
    .filter(([, value]) => value)
    .map(
      ([name, value]) =>
        `${name === "actor" ? "who" : name} ${name === "from" || name === "to" ? local(value!) : value}`
    );
  return parts.length ? parts.join(", ") : "all entries";
}

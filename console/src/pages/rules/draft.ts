// A rule that is being written: what the form and the preview have in common.
import type { Schemas } from "../../api/client";

export type Draft = Schemas["RuleBody"];
export type Clause = Schemas["Clause"];
export type Related = Schemas["Related"];

/** keyOf writes which columns of a related table refer to which of the other. */
export const keyOf = (k: Schemas["ForeignKey"]) =>
  Object.fromEntries(k.columns.map((c, i) => [c, k.ref_columns[i] ?? ""]));

const archives = (list: Related[] | undefined): boolean =>
  (list ?? []).some((r) => r.then === "archive" || archives(r.related));

/** copies says whether a rule has anything archived. */
export const copies = (d: Draft) =>
  d.then !== "purge" || d.clauses.some((c) => c.then && c.then !== "purge") || archives(d.related);

/** keepKinds are the ways in which a clause says how long rows stay. */
export const keepKinds = [
  { value: "period", name: "for" },
  { value: "forever", name: "forever" },
  { value: "before", name: "what is before a day goes" },
  { value: "name", name: "as the shared keep" },
  { value: "newest", name: "the newest partitions" }
];

/** kindOf says which of them a clause uses. */
export function kindOf(k: Schemas["ClauseKeep"]): string {
  if (k.forever) return "forever";
  if (k.before !== undefined) return "before";
  if (k.newest) return "newest";
  return k.name !== undefined ? "name" : "period";
}

/** withKind is a keep of another kind, with something plausible in it. */
export function withKind(kind: string, shared: string[]): Schemas["ClauseKeep"] {
  switch (kind) {
    case "forever":
      return { forever: true };
    case "before":
      return { before: `${new Date().getFullYear() - 2}-01-01` };
    case "newest":
      return { newest: 6 };
    case "name":
      return { name: shared[0] ?? "" };
  }
  return { period: "P18M" };
}

/** blank is a new rule for a table. */
export function blank(source: string, table: string, age: string, store: string): Draft {
  return {
    name:
      table
        .replace(/[^a-z0-9]+/gi, "-")
        .toLowerCase()
        .replace(/^-|-$/g, "") || "new-rule",
    about: "",
    source,
    table,
    age: { column: age },
    zone: "UTC",
    clauses: [{ keep: { period: "P18M" } }],
    then: "archive",
    archive: { store },
    pace: "gentle"
  };
}

/** tidy leaves out what says nothing, so that the text stays short. */
export function tidy(d: Draft): Draft {
  const clauses = d.clauses.map(
    (c) =>
      Object.fromEntries(
        Object.entries(c).filter(([, v]) => v !== "" && v !== false && v !== undefined)
      ) as Clause
  );
  return {
    ...d,
    clauses,
    archive: copies(d)
      ? Object.fromEntries(Object.entries(d.archive).filter(([, v]) => v !== "" && v !== undefined))
      : {}
  };
}

/** names makes choices of things that have names, the one that is chosen now among them. */
export const names = (list: { name: string }[] | undefined, now?: string) =>
  [...new Set([...(now ? [now] : []), ...(list ?? []).map((x) => x.name)])].map((n) => ({
    value: n,
    name: n
  }));

// What is filled in to request a restore.
export type RestoreForm = Record<
  | "kind"
  | "segment"
  | "run"
  | "table"
  | "where"
  | "from"
  | "to"
  | "target"
  | "format"
  | "conflicts"
  | "side"
  | "lasts",
  string
> &
  Record<"priority" | "tell" | "note", string>;

export type Choice = { value: string; name: string };

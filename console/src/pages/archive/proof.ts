import type { Schemas } from "../../api/client";

/** What proves that the segment is what was written. */
export function proof(s: Schemas["SegmentDetail"]): string[][] {
  const closing = s.closing_sequence ? `closing record, link ${s.closing_sequence}` : "closing record";
  return [
    ["file", `${s.rows_store || s.store}: ${s.stem}.parquet`],
    ...s.beside.map((b) => [`rows of ${b.table}`, `${s.store}: ${b.file}`]),
    ["digest of rows", s.digest],
    [`manifest, link ${s.sequence}`, s.manifest_hash],
    [closing, s.closing_hash || "not yet"],
    ...(s.disposal_hash ? [[`disposal record, link ${s.disposal_sequence}`, s.disposal_hash]] : [])
  ];
}

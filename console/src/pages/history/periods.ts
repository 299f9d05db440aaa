// Days summed up to days, weeks or months, all in UTC.
import type { Schemas } from "../../api/client";

export type By = "day" | "week" | "month";
export type Period = {
  begins: string;
  days: Schemas["DayTotals"];
  efforts: Record<string, number>; // seconds, by kind and name
  stores: Record<string, number>; // bytes, as the last day of the period has them
};

const iso = (d: Date) => d.toISOString().slice(0, 10);
const shown: Record<By, number> = { day: 30, week: 12, month: 12 };

/** beginning is the first day of a day's period. */
export function beginning(day: string, by: By): string {
  const d = new Date(`${day}T00:00:00Z`);
  if (by === "week") d.setUTCDate(d.getUTCDate() - ((d.getUTCDay() + 6) % 7));
  if (by === "month") d.setUTCDate(1);
  return iso(d);
}

/** later is the first day of the period that begins so many periods after another. */
function later(begins: string, by: By, n: number): string {
  const d = new Date(`${begins}T00:00:00Z`);
  if (by === "month") d.setUTCMonth(d.getUTCMonth() + n);
  else d.setUTCDate(d.getUTCDate() + n * (by === "week" ? 7 : 1));
  return iso(d);
}

/** first is where the periods that are shown begin, of which the last is that of today. */
export function first(by: By, today = iso(new Date())): string {
  return later(beginning(today, by), by, 1 - shown[by]);
}

/** sumUp sums a history up. Periods in which nothing happened are there too. */
export function sumUp(h: Schemas["History"], by: By): Period[] {
  const out: Period[] = [];
  for (let begins = beginning(h.from, by); begins <= h.to; begins = later(begins, by, 1))
    out.push({
      begins,
      days: {
        day: begins,
        runs: 0,
        archived: 0,
        purged: 0,
        freed: 0,
        file_bytes: 0,
        working_secs: 0
      },
      efforts: {},
      stores: {}
    });
  const at = (day: string) => out.find((p) => p.begins === beginning(day, by));
  for (const d of h.days) {
    const sum = at(d.day)?.days;
    if (!sum) continue;
    for (const k of ["runs", "archived", "purged", "freed", "file_bytes", "working_secs"] as const)
      sum[k] += d[k];
  }
  for (const e of h.efforts) {
    const p = at(e.day);
    const key = `${e.kind} ${e.name}`;
    if (p) p.efforts[key] = (p.efforts[key] ?? 0) + e.spent_secs;
  }
  for (const s of h.stores) {
    const p = at(s.day);
    if (p) p.stores[s.store] = s.bytes;
  }
  return out;
}

// Days summed up to weeks.
import type { Schemas } from "../../api/client";

export type Week = { week: string; archived: number; purged: number; freed: number };

/** monday is the first day of a day's week, in UTC. */
export function monday(day: string, weeks = 0): string {
  const d = new Date(`${day}T00:00:00Z`);
  d.setUTCDate(d.getUTCDate() - ((d.getUTCDay() + 6) % 7) + 7 * weeks);
  return d.toISOString().slice(0, 10);
}

/** inWeeks sums days up to so many weeks, the last of them that of now. */
export function inWeeks(days: Schemas["DayTotals"][], now: string, shown: number): Week[] {
  const out = Array.from({ length: shown }, (_, i) => ({
    week: monday(now.slice(0, 10), i + 1 - shown),
    archived: 0,
    purged: 0,
    freed: 0
  }));
  for (const d of days) {
    const w = out.find((x) => x.week === monday(d.day));
    if (!w) continue;
    w.archived += d.archived;
    w.purged += d.purged;
    w.freed += d.freed;
  }
  return out;
}

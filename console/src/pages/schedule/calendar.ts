// The days that a calendar shows, in the viewer's zone, and what stands on each.
import type { Schemas } from "../../api/client";

/** Mark is a firing on a calendar: one that was, or one that is to come. */
export type Mark = {
  at: string;
  rule: string;
  state: string; // of one that was; coming otherwise
  note: string;
  href: string;
};

/** span returns the first day shown and the day behind the last, for a week or a month that holds a day. */
export function spanOf(day: Date, month: boolean): [Date, Date] {
  const first = month
    ? new Date(day.getFullYear(), day.getMonth(), 1)
    : new Date(day.getFullYear(), day.getMonth(), day.getDate());
  const from = new Date(first.getFullYear(), first.getMonth(), first.getDate() - ((first.getDay() + 6) % 7));
  const last = month ? new Date(day.getFullYear(), day.getMonth() + 1, 0) : from;
  const weeks = month ? Math.ceil(((last.getTime() - from.getTime()) / 86_400_000 + 1) / 7) : 1;
  return [from, new Date(from.getFullYear(), from.getMonth(), from.getDate() + 7 * weeks)];
}

/** daysOf lists the days of a span. */
export function daysOf([from, to]: [Date, Date]): Date[] {
  const out = [];
  for (let d = from; d < to && out.length < 50; d = new Date(d.getFullYear(), d.getMonth(), d.getDate() + 1))
    out.push(d);
  return out;
}

const number = new Intl.NumberFormat("en");

/** marksOf makes marks of the firings that were and of those that are to come. */
export function marksOf(was: Schemas["Firing"][], coming: Schemas["ComingFiring"][]): Mark[] {
  return [
    ...was.map((f) => ({
      at: f.at,
      rule: f.rule,
      state: f.state,
      note: f.reason || (f.plan ? `${number.format(f.due)} rows due` : ""),
      href: f.run ? `#/runs/${f.run}` : `#/rules/${f.rule}`
    })),
    ...coming.map((f) => ({
      at: f.at,
      rule: f.rule,
      state: "coming",
      note: f.expected ? `about ${number.format(f.expected)} rows, as the run before it` : "",
      href: `#/rules/${f.rule}`
    }))
  ].sort((a, b) => a.at.localeCompare(b.at));
}

/** onDay lists the marks of one day. */
export function onDay(marks: Mark[], day: Date): Mark[] {
  return marks.filter((m) => new Date(m.at).toDateString() === day.toDateString());
}

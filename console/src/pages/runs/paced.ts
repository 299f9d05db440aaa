import { span } from "../../lib/format";
import type { Schemas } from "../../api/client";

// The pace and, while the run works, how much of the database it takes.
export function paced(run: Schemas["RunView"]): string {
  if (!run.pressure || run.state !== "running" || run.pace !== "gentle") return run.pace;
  const free = run.pressure.free;
  if (free === 0) return "gentle, with long rests";
  if (run.pressure.why) return "gentle, beside others";
  return free < 1 ? `gentle, speeding up (${Math.round(100 * free)} %)` : "gentle, at full speed";
}

/** timeLeft is how long a run will still take: the range that its last batches give, where they differ. */
export function timeLeft(r: Schemas["RunView"]): string {
  if (r.seconds_low == null || r.seconds_high == null || span(r.seconds_low) === span(r.seconds_high))
    return span(r.seconds_left ?? 0);
  return `${span(r.seconds_low)} to ${span(r.seconds_high)}`;
}

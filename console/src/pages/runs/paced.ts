import type { Schemas } from "../../api/client";

// The pace and, while the run works, how much of the database it takes.
export function paced(run: Schemas["RunView"]): string {
  if (!run.pressure || run.state !== "running" || run.pace !== "gentle") return run.pace;
  const free = run.pressure.free;
  if (free === 0) return "gentle, with long rests";
  return free < 1 ? `gentle, speeding up (${Math.round(100 * free)} %)` : "gentle, at full speed";
}

import type { Schemas } from "../../api/client";
import { count, plural, size } from "../../lib/format";

/** What is to be known of a search beside its rows. */
export function summary(s: Schemas["Searched"]): string {
  const out: string[] = [];
  if (s.more)
    out.push(
      `The first ${plural(s.found, "row")}${s.large ? ", as many as an answer may be large" : ""}; there are more.`
    );
  else {
    out.push(plural(s.found, "row"));
    out.push(`Of ${plural(s.segments, "segment")} ${count(s.passed)} passed over by their bounds;`);
    out.push(`${plural(s.rows, "row")} looked at, ${size(s.bytes)} read.`);
  }
  if (s.superseded) {
    const were = s.superseded === 1 ? "was" : "were";
    out.push(`${plural(s.superseded, "row")} of which a newer version is archived ${were} passed over.`);
  }
  return out.join(" ");
}

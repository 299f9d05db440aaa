import type { Schemas } from "../../api/client";

/** quiet says whether somebody acknowledged a finding for now. */
export const quiet = (f: Schemas["Finding"]) =>
  !!f.acknowledged_at && (!f.acknowledged_until || new Date(f.acknowledged_until) > new Date());

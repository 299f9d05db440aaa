// Who is signed in, and what they may do.
import type { Schemas } from "../api/client";
import { local } from "./format";

export type Right = Schemas["Session"]["rights"][number];

class Who {
  session = $state<Schemas["Session"]>();
  last = $state(""); // when and from where the account signed in before this session; empty: not known, or never

  /** began takes in what is told at sign-in alone. */
  began(s: Schemas["Session"]) {
    this.last = s.last_at ? `${local(s.last_at)}, from ${s.last_from}` : "";
  }

  /** may says whether something may be done: in a source, or in all where none is named. */
  may(right: Right, source?: string): boolean {
    const s = this.session;
    if (!s) return false;
    if (s.rights.includes(right)) return true;
    const grant = source === undefined ? undefined : s.grants?.[source];
    return !!grant && held(grant, right);
  }

  /** maySomewhere says whether something may be done in any source. */
  maySomewhere(right: Right): boolean {
    return (
      this.may(right) || Object.keys(this.session?.grants ?? {}).some((source) => this.may(right, source))
    );
  }
}

const roles: Record<string, Right[]> = {
  none: [],
  viewer: ["see"],
  operator: ["see", "operate"],
  approver: ["see", "approve"],
  administrator: ["see", "rows", "operate", "approve", "administer"]
};

function held(grant: Schemas["Grant"], right: Right): boolean {
  return (roles[grant.role] ?? []).includes(right) || (right === "rows" && !!grant.rows);
}

export const who = new Who();

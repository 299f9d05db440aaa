// What a page loads: the answer, or why there is none. A later load keeps the old answer until the new one is there.
import { Failed, type Problem } from "../api/client";

export class Loader<T> {
  data = $state<T>();
  problem = $state<Problem>();
  busy = $state(false);
  #fetch: () => Promise<T>;

  constructor(fetch: () => Promise<T>) {
    this.#fetch = fetch;
  }

  async load() {
    this.busy = true;
    try {
      this.data = await this.#fetch();
      this.problem = undefined;
    } catch (e) {
      this.problem = problemOf(e);
    }
    this.busy = false;
  }
}

/** Pages of a list that grows: each begins behind the last item of the one before it. */
export class Pages {
  after = $state<string>();
  #before = $state<(string | undefined)[]>([]);

  get first() {
    return this.#before.length === 0;
  }
  on(next: string) {
    this.#before.push(this.after);
    this.after = next;
  }
  back() {
    this.after = this.#before.pop();
  }
  reset() {
    this.#before = [];
    this.after = undefined;
  }
}

export function problemOf(e: unknown): Problem {
  if (e instanceof Failed) return e.problem;
  return { type: "", title: "The page failed", status: 0, detail: String(e) };
}

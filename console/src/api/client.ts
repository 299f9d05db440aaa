// The one place that talks to the service. Types come from its OpenAPI document.
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];

export const api = createClient<paths>({ baseUrl: "/api/v1" });

/** Failed is what every call throws that the service refuses, or that does not reach it. */
export class Failed extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

/** take returns the answer of a call, or throws Failed. */
export async function take<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result;
  try {
    result = await call;
  } catch {
    throw new Failed({
      type: "",
      title: "The service does not answer",
      status: 0,
      detail: "The connection to the service is lost. It may be restarting; the page tries again."
    });
  }
  if (result.error !== undefined) {
    const p = result.error as Problem;
    if (p?.status === 401) signedOut();
    throw new Failed(
      p?.detail
        ? p
        : {
            type: "",
            title: "The service failed",
            status: result.response.status,
            detail: result.response.statusText
          }
    );
  }
  return result.data as T;
}

/** archivedTables returns all tables of which rows are archived, however many pages they fill. */
export async function archivedTables(): Promise<{ items: Schemas["ArchivedTable"][] }> {
  const items: Schemas["ArchivedTable"][] = [];
  for (let after: string | undefined; ;) {
    const page = await take(api.GET("/archived", { params: { query: { limit: 500, after } } }));
    items.push(...page.items);
    if (!page.next) return { items };
    after = page.next;
  }
}

let signedOut = () => {};

/** onSignedOut is told when the service no longer knows the session. */
export function onSignedOut(fn: () => void) {
  signedOut = fn;
}

/** watchRun calls back with a run's counts as they change; the returned function stops it. */
export function watchRun(id: string, change: (run: Schemas["RunView"]) => void, end: () => void): () => void {
  const events = new EventSource(`/api/v1/runs/${encodeURIComponent(id)}/events`);
  events.addEventListener("run", (e) => change(JSON.parse((e as MessageEvent<string>).data)));
  events.addEventListener("end", () => {
    events.close();
    end();
  });
  return () => events.close();
}

/** restoreFile is the address of a restore's file. */
export function restoreFile(id: string): string {
  return `/api/v1/restores/${encodeURIComponent(id)}/file`;
}

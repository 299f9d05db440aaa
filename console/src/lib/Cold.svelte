<script lang="ts">
  // What lies in cold storage of what somebody asks for, what it takes to fetch it, and where wanted the asking.
  import { api, take, type Problem, type Schemas } from "../api/client";
  import { count, lasting, money, plural, size } from "./format";
  import { problemOf } from "./loader.svelte";
  import Act from "./Act.svelte";
  import Trouble from "./Trouble.svelte";
  let { cold, ask = false }: { cold: Schemas["Chilled"]; ask?: boolean } = $props();
  let problem = $state<Problem>();
  let asked = $state<Schemas["Retrieval"][]>();
  let busy = $state(false);
  let waiting = $derived(cold.segments.filter((s) => s.expected_at).length);

  async function retrieve(priority: string) {
    busy = true;
    problem = undefined;
    try {
      asked = (
        await take(
          api.POST("/retrievals", { body: { segments: cold.segments.map((s) => s.segment), priority } })
        )
      ).items;
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
  let holds = $derived(
    `may hold such rows (${plural(cold.rows, "row")}, ${size(cold.bytes)}), and cannot be read before ` +
      `${cold.segments.length === 1 ? "it is" : "they are"} retrieved.`
  );
</script>

<div
  class="rounded border border-indigo-300 bg-indigo-50 px-3 py-2 text-sm text-gray-800
    dark:border-indigo-700 dark:bg-indigo-950 dark:text-gray-100"
  role="status"
  data-testid="cold">
  <p>
    <b>{plural(cold.segments.length, "segment")} in cold storage</b>
    {holds}
    {waiting ? `${count(waiting)} of them ${waiting === 1 ? "is" : "are"} on the way.` : ""}
  </p>
  {#if asked}
    <p class="mt-1">
      {asked.length ? `${plural(asked.length, "retrieval")} asked for; ` : "All are on the way already; "}see
      <a class="text-link" href="#/archive">Archive</a>.
    </p>
  {:else}
    <ul class="mt-1 flex flex-wrap gap-x-6 gap-y-1">
      {#each cold.offers as o (o.priority)}
        <li class="flex items-center gap-2">
          <span>{o.priority} priority: {lasting(o.wait)}, {money(o.price, o.currency)}</span>{#if ask}<Act
              right="operate"
              any
              size="xs"
              color="alternative"
              disabled={busy}
              aria-label="Retrieve at {o.priority} priority"
              onclick={() => retrieve(o.priority)}>Retrieve</Act
            >{/if}
        </li>
      {/each}
    </ul>
  {/if}
  {#if problem}<Trouble {problem} />{/if}
</div>

<script lang="ts">
  // What the morning begins with: what needs somebody, last night, and what comes next.
  import { api, take } from "../../api/client";
  import { count, plural } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader } from "../../lib/loader.svelte";
  import { quiet } from "../findings/quiet";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import When from "../../lib/When.svelte";
  import Night from "./Night.svelte";

  let { now }: { now: string } = $props();
  const findings = new Loader(() => take(api.GET("/findings", { params: { query: { limit: 100 } } })));
  const coming = new Loader(() => take(api.GET("/firings/coming")));
  const spans = new Loader(() => take(api.GET("/runs/spans")));
  $effect(() =>
    whenChanged(() => {
      findings.load();
      coming.load();
      spans.load();
    })
  );
  let open = $derived((findings.data?.items ?? []).filter((f) => !quiet(f)));
</script>

{#if open.length}
  <Panel title="{plural(open.length, 'finding')} to look at">
    <ul>
      {#each open.slice(0, 5) as f (f.id)}
        <li
          class="flex flex-wrap items-center gap-3 border-t border-gray-100 px-4 py-2 text-sm first:border-0
            dark:border-gray-700/60">
          <State state={f.severity} /><a class="text-link" href={f.address}>{f.message}</a>
          <span class="ms-auto text-gray-500 dark:text-gray-400">since <When at={f.opened_at} /></span>
        </li>
      {/each}
    </ul>
    {#if open.length > 5}<p class="px-4 pb-2 text-sm">
        <a class="text-link" href="#/findings">all findings</a>
      </p>{/if}
  </Panel>
{/if}
<div class="grid gap-x-4 xl:grid-cols-2">
  <Panel title="Last 24 hours">
    {#if spans.data}<Night spans={spans.data.items} {now} />{/if}
  </Panel>
  <Panel title="Next" note="what rules do by themselves">
    {#if coming.data?.items.length}
      <ul class="px-4 py-2 text-sm">
        {#each coming.data.items.slice(0, 5) as f (f.at + f.rule)}
          <li class="flex flex-wrap gap-3 py-1">
            <When at={f.at} /><a class="text-link" href="#/rules/{f.rule}">{f.rule}</a>
            <span class="ms-auto text-gray-500 dark:text-gray-400"
              >{f.expected ? `about ${count(f.expected)} rows` : ""}</span>
          </li>
        {/each}
      </ul>
    {:else if coming.data}
      <p class="px-4 py-3 text-sm text-gray-500 dark:text-gray-400">
        No rule has a schedule. Edit a <a class="text-link" href="#/rules">rule</a> to give it one.
      </p>
    {/if}
  </Panel>
</div>

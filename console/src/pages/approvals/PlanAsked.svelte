<script lang="ts">
  // What a plan takes, beside what the last run of its rule took.
  import { api, take } from "../../api/client";
  import { age, count } from "../../lib/format";
  import { Loader } from "../../lib/loader.svelte";
  let { plan, rule }: { plan: string; rule: string } = $props();
  const both = new Loader(async () => {
    const is = await take(api.GET("/plans/{plan}", { params: { path: { plan } } }));
    const runs = await take(api.GET("/runs", { params: { query: { rule, state: "done", limit: 1 } } }));
    return { is, last: runs.items[0] };
  });
  $effect(() => {
    void plan;
    both.load();
  });
  let is = $derived(both.data?.is);
  let last = $derived(both.data?.last);
</script>

{#if is}
  <table class="mt-2 text-sm">
    <thead class="text-left text-gray-500 dark:text-gray-400">
      <tr
        ><th class="pe-6 font-normal"></th><th class="pe-6 font-normal">this plan</th><th class="font-normal"
          >the last run of the rule</th
        ></tr>
    </thead>
    <tbody>
      <tr
        ><td class="pe-6">rows before</td><td class="pe-6">{age(is.cutoff)}</td><td
          >{last ? age(last.cutoff) : "there was none"}</td
        ></tr>
      <tr
        ><td class="pe-6">rows due</td><td class="pe-6">{count(is.counts.due)} of {count(is.counts.total)}</td
        ><td>{last ? count(last.due) : "–"}</td></tr>
      <tr
        ><td class="pe-6">revision of the rule</td><td class="pe-6">{is.revision}</td><td
          >{last ? last.revision : "–"}</td
        ></tr>
    </tbody>
  </table>
  {#each is.warnings as w (w)}<p class="mt-1">{w}</p>{/each}
  {#each is.detail.guards as g (g)}<p class="mt-1 text-red-700 dark:text-red-400">{g}</p>{/each}
  <a class="text-link" href="#/rules/{rule}">Rule {rule}</a>
{/if}

<script lang="ts">
  // A plan in numbers and as a picture: which part of the table goes, where the cut lies, what stays for which reason.
  import { Alert, Button } from "flowbite-svelte";
  import type { Schemas } from "../../api/client";
  import { age, count, share, size } from "../../lib/format";
  import Facts from "../../lib/Facts.svelte";
  import When from "../../lib/When.svelte";
  let { plan, current, run, busy, start }: { plan: Schemas["Plan"]; current: number | undefined; run?: Schemas["RunView"] | null; busy: boolean; start: () => void } = $props();
  let carriedOut = $derived(run?.plan === plan.id ? run : undefined);
  let s = $derived(plan.counts);
  let percent = $derived(share(s.due, Math.max(s.total, s.due)));
  let stale = $derived(current !== undefined && current !== plan.revision);
  const some = (n: number, what: string) => (n > 0 ? `${count(n)} ${what}` : "");
</script>

<div class="px-4 pt-3">
  <div class="flex flex-wrap items-baseline gap-x-3">
    <span class="text-2xl font-semibold" data-testid="due">{count(s.due)}</span>
    <span class="text-sm text-gray-600 dark:text-gray-400">of {s.counted ? "" : "about "}{count(s.total)} rows are due, about {size(s.bytes)} ({s.counted ? "counted" : "the database's estimate"})</span>
    {#if carriedOut}<a class="text-link ms-auto text-sm" href="#/runs/{carriedOut.id}">carried out by this run ({carriedOut.state})</a>
    {:else}<Button size="sm" class="ms-auto" disabled={busy || stale || s.due === 0} onclick={start}>Start the run</Button>{/if}
  </div>
  <div class="mt-3 flex h-4 overflow-hidden rounded bg-gray-200 dark:bg-gray-700" role="img" aria-label="{percent.toFixed(0)} percent of the rows are due">
    <div class="bg-primary-500" style:width="{percent}%"></div>
  </div>
  <div class="mt-1 flex justify-between text-xs text-gray-500 dark:text-gray-400">
    <span>{age(s.oldest ?? "")}</span><span>last that goes {age(s.last_going ?? "")} · first that stays {age(s.first_stays ?? "")}</span>
  </div>
</div>
{#snippet cutoff()}<When at={plan.cutoff} />{/snippet}
{#snippet made()}<When at={plan.made_at} />{/snippet}
<Facts facts={[["Cutoff", cutoff], ["Made", made], ["Batches", `about ${count(plan.batches)}`], ["Segments", plan.segments ? `about ${count(plan.segments)}` : "none: purge"], ["Never due", some(s.ageless, "rows without an instant as age")], ["In the future", some(s.future, "rows dated a day ahead or more")], ["Restored", some(s.restored, "aged rows left alone")], ["Referenced", some(s.referenced, "aged rows that other tables refer to")]]} />
<div class="px-4 pb-3">
  {#if stale}<Alert color="yellow" class="mb-2">The rule has changed since; make a new plan before you start a run.</Alert>{/if}
  {#each plan.warnings as w (w)}<Alert color="yellow" class="mb-2">{w}</Alert>{/each}
</div>

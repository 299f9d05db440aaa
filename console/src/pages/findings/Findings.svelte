<script lang="ts">
  import { Button, Input, Toggle } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import { quiet } from "./quiet";

  let all = $state(false);
  let knowing = $state("");
  let reason = $state("");
  let until = $state("");
  let problem = $state<Problem>();
  const findings = new Loader(() =>
    take(api.GET("/findings", { params: { query: { all: String(all), limit: 200 } } }))
  );
  $effect(() => {
    void all;
    return whenChanged(() => findings.load());
  });
  let shown = $derived((findings.data?.items ?? []).filter((f) => all || !quiet(f)));
  const heard = (f: Schemas["Finding"]) => (f.closed_at ? "over" : quiet(f) ? "acknowledged" : f.severity);

  async function acknowledge(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    try {
      await take(
        api.POST("/findings/{finding}/acknowledge", {
          params: { path: { finding: knowing } },
          body: { reason, until: until ? new Date(until).toISOString() : undefined }
        })
      );
      knowing = reason = until = "";
      await findings.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<Page
  title="Findings"
  about="What somebody should look at. A finding closes by itself when its cause is gone.">
  <Trouble problem={findings.problem ?? problem} />
  <Panel>
    <div class="flex justify-end px-4 py-2">
      <Toggle size="small" bind:checked={all}>those that are over or acknowledged too</Toggle>
    </div>
    {#if findings.data && shown.length === 0}
      <Blank title="Nothing needs anybody">Every rule, run and segment is as it should be.</Blank>
    {/if}
    <ul aria-label="Findings">
      {#each shown as f (f.id)}
        <li class="border-t border-gray-100 px-4 py-3 text-sm dark:border-gray-700/60">
          <div class="flex flex-wrap items-center gap-3">
            <State state={heard(f)} />
            <a class="text-link font-medium" href={f.address}>{f.message}</a>
            <span class="ms-auto text-gray-500 dark:text-gray-400">since <When at={f.opened_at} /></span>
          </div>
          {#if f.evidence}<p class="mt-1 break-words text-gray-600 dark:text-gray-400">{f.evidence}</p>{/if}
          <p class="mt-1 break-words"><b>What to do:</b> {f.remedy}</p>
          {#if f.acknowledged_at}
            <p class="mt-1 text-gray-600 dark:text-gray-400">
              Acknowledged by {f.acknowledged_by}: {f.acknowledge_reason}{#if f.acknowledged_until}, until
                <When at={f.acknowledged_until} />{/if}
            </p>
          {/if}
          {#if knowing === f.id}
            <form class="mt-2 flex flex-wrap gap-2" onsubmit={acknowledge}>
              <Input
                size="sm"
                class="max-w-md"
                aria-label="Why it may stay"
                placeholder="why it may stay"
                bind:value={reason} />
              <Input size="sm" class="max-w-40" type="date" aria-label="Until" bind:value={until} />
              <Button size="xs" type="submit" disabled={!reason.trim()}>Acknowledge</Button>
            </form>
          {:else if !f.closed_at}
            <Act right="operate" size="xs" color="alternative" class="mt-2" onclick={() => (knowing = f.id)}
              >Acknowledge …</Act>
          {/if}
        </li>
      {/each}
    </ul>
  </Panel>
</Page>

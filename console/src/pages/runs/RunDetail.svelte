<script lang="ts">
  import { Button, TableBodyCell, TableBodyRow } from "flowbite-svelte";
  import { api, take, watchRun, type Problem, type Schemas } from "../../api/client";
  import { count, share, size, span } from "../../lib/format";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Facts from "../../lib/Facts.svelte";
  import Passes from "./Passes.svelte";
  import Ledger from "../../lib/Ledger.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  import When from "../../lib/When.svelte";
  import BatchChart from "./BatchChart.svelte";

  let { params }: { params: { run: string } } = $props();
  let run = $state<Schemas["RunView"]>();
  let problem = $state<Problem>();
  let asking = $state(false);
  const first = new Loader(() => take(api.GET("/runs/{run}", { params: { path: params } })));
  const batches = new Loader(() => take(api.GET("/runs/{run}/batches", { params: { path: params, query: { limit: 200 } } })));

  function watch() {
    first.load().then(() => (run = first.data));
    const timer = setInterval(() => batches.load(), 1500);
    batches.load();
    const end = () => { clearInterval(timer); batches.load(); };
    const stop = watchRun(params.run, (r) => (run = r), end);
    return () => { clearInterval(timer); stop(); };
  }
  let again = $state(0);
  $effect(() => { void again; return watch(); });

  async function verb(path: "/runs/{run}/pause" | "/runs/{run}/resume" | "/runs/{run}/cancel" | "/runs/{run}/delete") {
    problem = undefined;
    asking = false;
    try {
      run = await take(api.POST(path, { params: { path: params } }));
      again++;
    } catch (e) {
      problem = problemOf(e);
    }
  }
  async function changePace() {
    problem = undefined;
    try {
      const changed = await take(api.POST("/runs/{run}/pace", { params: { path: params }, body: { pace: run!.pace === "gentle" ? "unlimited" : "gentle" } }));
      run = { ...run!, pace: changed.pace };
    } catch (e) {
      problem = problemOf(e);
    }
  }
  let active = $derived(run && ["queued", "running"].includes(run.state));
  let resumable = $derived(run && ["paused", "failed"].includes(run.state));
  let copied = $derived(run?.state === "copied");
  let deciding = $state(false);
</script>

<Page title={run ? `Run of ${run.rule}` : "Run"} about={run ? `${run.action} ${run.source}.${run.table}` : ""} back={{ href: "#/runs", text: "Runs" }}>
  {#snippet actions()}
    {#if active || resumable}<Button size="sm" color="alternative" onclick={changePace}>{run!.pace === "gentle" ? "Go faster" : "Go gently"}</Button>{/if}
    {#if active}<Button size="sm" color="alternative" onclick={() => verb("/runs/{run}/pause")}>Pause</Button>{/if}
    {#if resumable}<Button size="sm" onclick={() => verb("/runs/{run}/resume")}>Resume</Button>{/if}
    {#if copied}<Button size="sm" onclick={() => (deciding = true)}>Delete the rows …</Button>{/if}
    {#if active || resumable || copied}<Button size="sm" color="alternative" onclick={() => (asking = true)}>Cancel …</Button>{/if}
  {/snippet}
  <Trouble problem={first.problem ?? problem} />
  {#if deciding && copied}
    <Warning class="mb-4">
      Everything is copied and verified. Delete the {count(run!.ledger.copied)} rows now? Those that were changed since stay.
      <span class="ms-3 inline-flex gap-2"><Button size="xs" color="red" onclick={() => { deciding = false; verb("/runs/{run}/delete"); }}>Delete them</Button><Button size="xs" color="alternative" onclick={() => (deciding = false)}>Not yet</Button></span>
    </Warning>
  {/if}
  {#if asking}
    <Warning class="mb-4">
      Cancel for good? Rows already archived and deleted stay in the archive; rows not reached stay in the table.
      <span class="ms-3 inline-flex gap-2"><Button size="xs" color="red" onclick={() => verb("/runs/{run}/cancel")}>Cancel the run</Button><Button size="xs" color="alternative" onclick={() => (asking = false)}>Keep it</Button></span>
    </Warning>
  {/if}
  {#if run}
    {#snippet cutoff()}<When at={run!.cutoff} />{/snippet}
    {#snippet started()}<When at={run!.started_at} none="not yet" />{/snippet}
    {#snippet ended()}<When at={run!.ended_at} none="not yet" />{/snippet}
    {#snippet rule()}<a class="text-link" href="#/rules/{run!.rule}">{run!.rule}, revision {run!.revision}</a>{/snippet}
    <Panel>
      <div class="px-4 pt-3" aria-live="polite">
        <div class="mb-2 flex flex-wrap items-center gap-3 text-sm">
          <span data-testid="state"><State state={run.state} /></span>
          <span class="font-medium">{count(run.done)} of {count(run.due)} rows</span>
          <span class="text-gray-600 dark:text-gray-400">{count(run.rate)} rows/s{#if run.seconds_left !== null && run.state === "running"}, {span(run.seconds_left)} left{/if}</span>
          {#if run.reason}<span class="text-gray-600 dark:text-gray-400">{run.reason}</span>{/if}
        </div>
        <Bar percent={run.state === "done" ? 100 : share(run.done, run.due)} label="progress of the run" color={run.state === "failed" ? "bg-red-600" : "bg-primary-500"} />
      </div>
      <Facts facts={[["Rule", rule], ["Cutoff", cutoff], ["Pace", run.pace], ["Started", started], ["Ended", ended], ["Working", span(run.working_micros / 1e6)], ["As read", run.store ? size(run.raw_bytes) : ""], ["In the archive", run.store ? size(run.file_bytes) : ""], ["Log volume", run.log_bytes == null ? "" : size(run.log_bytes)], ["Run", run.id]]} />
    </Panel>
    <Panel title="Ledger"><Ledger ledger={run.ledger} action={run.action} />{#if run.passes.length > 1 || run.passes.some((p) => p.related?.length)}<Passes {run} />{/if}</Panel>
  {/if}
  <Panel title="Batches" note="the newest 200">
    {#if batches.data?.items.length}<BatchChart batches={batches.data.items} />{/if}
    <Listing label="Batches" heads={["Batch", "At", "#Rows", "#Deleted", "#Changed", "#Vanished", "#Held", "#Skipped", "#Took"]} items={batches.data?.items.slice(0, 12)}>
      {#snippet row(b: Schemas["Batch"])}
        <TableBodyRow>
          <TableBodyCell>{b.segment}/{b.number}{b.retry ? " again" : ""}</TableBodyCell><TableBodyCell><When at={b.at} /></TableBodyCell>
          {#each [b.rows, b.deleted, b.changed, b.vanished, b.held, b.skipped] as n, i (i)}<TableBodyCell class="text-right">{count(n)}</TableBodyCell>{/each}
          <TableBodyCell class="text-right">{(b.micros / 1000).toFixed(1)} ms</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="No batch yet">The first slice is being read, stored and verified.</Blank>{/snippet}
    </Listing>
  </Panel>
</Page>

<script lang="ts">
  import { Button } from "../../lib/ui";
  import { api, take, watchRun, type Problem, type Schemas } from "../../api/client";
  import { count, share, size, span } from "../../lib/format";
  import { who } from "../../lib/who.svelte";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import { paced, timeLeft } from "./paced";
  import Bar from "../../lib/Bar.svelte";
  import Facts from "../../lib/Facts.svelte";
  import Parts from "./Parts.svelte";
  import Passes from "./Passes.svelte";
  import Ledger from "../../lib/Ledger.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  import When from "../../lib/When.svelte";
  import Batches from "./Batches.svelte";
  import Course from "./Course.svelte";
  import Expected from "./Expected.svelte";
  import Signals from "./Signals.svelte";
  import Slowdowns from "./Slowdowns.svelte";
  import Steps from "./Steps.svelte";

  let { params }: { params: { run: string } } = $props();
  let run = $state<Schemas["RunView"]>();
  let problem = $state<Problem>();
  let asking = $state(false);
  const first = new Loader(() => take(api.GET("/runs/{run}", { params: { path: params } })));
  const batches = new Loader(() =>
    take(api.GET("/runs/{run}/batches", { params: { path: params, query: { limit: 200 } } }))
  );

  const slow = new Loader(() =>
    take(api.GET("/runs/{run}/slowdowns", { params: { path: params, query: { limit: 50 } } }))
  );

  $effect(() =>
    whenChanged(() => {
      batches.load();
      slow.load();
    })
  );
  function watch() {
    let streamed = false; // what the stream has said is newer than the first answer, however late that comes
    first.load().then(() => (run = streamed ? run : first.data));
    const change = (r: Schemas["RunView"]) => {
      streamed = true;
      run = r;
    };
    return watchRun(params.run, change, () => {});
  }
  let again = $state(0);
  $effect(() => {
    void again;
    return watch();
  });

  async function verb(
    path: "/runs/{run}/pause" | "/runs/{run}/resume" | "/runs/{run}/cancel" | "/runs/{run}/delete"
  ) {
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
      const changed = await take(
        api.POST("/runs/{run}/pace", {
          params: { path: params },
          body: { pace: run!.pace === "unlimited" ? "gentle" : "unlimited" }
        })
      );
      run = { ...run!, pace: changed.pace };
    } catch (e) {
      problem = problemOf(e);
    }
  }
  let active = $derived(run && ["queued", "running", "resting"].includes(run.state));
  let resumable = $derived(run && ["paused", "failed"].includes(run.state));
  let copied = $derived(run?.state === "copied");
  let deciding = $state(false);
</script>

<Page
  title={run ? `Run of ${run.rule}` : "Run"}
  about={run ? `${run.action} ${run.source}.${run.table}` : ""}
  back={{ href: "#/runs", text: "Runs" }}>
  {#snippet actions()}
    {#if run && who.may("operate", run.source)}
      {#if active || resumable}<Button size="sm" color="alternative" onclick={changePace}
          >{run.pace === "unlimited" ? "Go gently" : "Go faster"}</Button
        >{/if}
      {#if active}<Button size="sm" color="alternative" onclick={() => verb("/runs/{run}/pause")}
          >Pause</Button
        >{/if}
      {#if resumable}<Button size="sm" onclick={() => verb("/runs/{run}/resume")}>Resume</Button>{/if}
      {#if copied}<Button size="sm" onclick={() => (deciding = true)}>Delete the rows …</Button>{/if}
      {#if active || resumable || copied}<Button size="sm" color="alternative" onclick={() => (asking = true)}
          >Cancel …</Button
        >{/if}
    {/if}
  {/snippet}
  <Trouble problem={first.problem ?? problem} />
  {#if deciding && copied}
    <Warning class="mb-4">
      Everything is copied and verified. Delete the {count(run!.ledger.copied)} rows now? Those that were changed
      since stay.
      <span class="ms-3 inline-flex gap-2"
        ><Button
          size="xs"
          color="red"
          onclick={() => {
            deciding = false;
            verb("/runs/{run}/delete");
          }}>Delete them</Button
        ><Button size="xs" color="alternative" onclick={() => (deciding = false)}>Not yet</Button></span>
    </Warning>
  {/if}
  {#if asking}
    <Warning class="mb-4">
      Cancel for good? Rows already archived and deleted stay in the archive; rows not reached stay in the
      table.
      <span class="ms-3 inline-flex gap-2"
        ><Button size="xs" color="red" onclick={() => verb("/runs/{run}/cancel")}>Cancel the run</Button
        ><Button size="xs" color="alternative" onclick={() => (asking = false)}>Keep it</Button></span>
    </Warning>
  {/if}
  {#if run}
    {#snippet cutoff()}<When at={run!.cutoff} />{/snippet}
    {#snippet started()}<When at={run!.started_at} none="not yet" />{/snippet}
    {#snippet ended()}<When at={run!.ended_at} none="not yet" />{/snippet}
    {#snippet resumes()}<When at={run!.resume_at} />{/snippet}
    {#snippet rule()}<a class="text-link" href="#/rules/{run!.rule}">{run!.rule}, revision {run!.revision}</a
      >{/snippet}
    <Panel>
      <div class="px-4 pt-3" aria-live="polite">
        <div class="mb-2 flex flex-wrap items-center gap-3 text-sm">
          <span data-testid="state"><State state={run.state} /></span>
          <span class="font-medium">{count(run.done)} of {count(run.due)} rows</span>
          <span class="text-gray-600 dark:text-gray-400"
            >{count(run.rate)} rows/s{run.seconds_left !== null && run.state === "running"
              ? `, ${timeLeft(run)} left`
              : ""}</span>
          {#if run.reason}<span class="text-gray-600 dark:text-gray-400">{run.reason}</span>{/if}
        </div>
        <Bar
          percent={run.state === "done" ? 100 : share(run.done, run.due)}
          label="progress of the run"
          color={run.state === "failed" ? "bg-red-600" : "bg-primary-500"} />
      </div>
      <Facts
        facts={[
          ["Rule", rule],
          ["Cutoff", cutoff],
          ["Pace", paced(run)],
          ["Started", started],
          ["Ended", ended],
          ["Working", span(run.working_micros / 1e6)],
          ["Batch", run.batch_rows ? `${count(run.batch_rows)} rows` : ""],
          ["Goes on", run.resume_at ? resumes : ""],
          ["This window", run.window_began ? `${count(run.window_rows)} rows` : ""],
          ["Windows to go", run.windows_left ? `about ${count(run.windows_left)}` : ""],
          ["As read", run.store ? size(run.raw_bytes) : ""],
          ["In the archive", run.store ? size(run.file_bytes) : ""],
          ["Log volume", run.log_bytes == null ? "" : size(run.log_bytes)],
          ["Run", run.id]
        ]} />
    </Panel>
    <Panel title="Ledger"
      ><Ledger
        ledger={run.ledger}
        action={run.action} />{#if run.passes.length > 1 || run.passes.some((p) => p.related?.length)}<Passes
          {run} />{/if}</Panel>
  {/if}
  {#if run?.parts?.length}<Panel title="Partitions" note="that were to leave as a whole"
      ><Parts items={run.parts} /></Panel
    >{/if}
  {#if run?.pressure && run.state === "running"}<Panel
      title="Pressure"
      note="asked for every second; the run follows it"><Signals pressure={run.pressure} /></Panel
    >{/if}
  {#if run}<Course run={params.run} going={run.state === "running"} />{/if}
  {#if slow.data?.items.length}<Panel
      title="Slow-downs"
      note="when the run went slower than its pace, and why"><Slowdowns items={slow.data.items} /></Panel
    >{/if}
  <Steps run={params.run} />
  {#if run?.state === "done"}<Expected {run} />{/if}
  <Batches items={batches.data?.items} />
</Page>

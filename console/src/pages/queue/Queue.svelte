<script lang="ts">
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, share, span } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Jobs from "./Jobs.svelte";
  import { who } from "../../lib/who.svelte";
  import Limits from "./Limits.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Turn from "./Turn.svelte";

  const queue = new Loader(() => take(api.GET("/queue")));
  let problem = $state<Problem>();
  $effect(() => whenChanged(() => queue.load()));

  async function act(fn: () => Promise<unknown>) {
    problem = undefined;
    try {
      await fn();
    } catch (e) {
      problem = problemOf(e);
    }
    await queue.load();
  }
  const path = (q: Schemas["QueuedRun"]) => ({ params: { path: { run: q.run.id } } });
  const pause = (q: Schemas["QueuedRun"]) => act(() => take(api.POST("/runs/{run}/pause", path(q))));
  const cancel = (q: Schemas["QueuedRun"]) => act(() => take(api.POST("/runs/{run}/cancel", path(q))));
  const first = (q: Schemas["QueuedRun"], by: number) =>
    act(() =>
      take(api.POST("/runs/{run}/priority", { ...path(q), body: { priority: (q.run.priority ?? 0) + by } }))
    );
  const resume = (q: Schemas["QueuedRun"]) => act(() => take(api.POST("/runs/{run}/resume", path(q))));
</script>

<Page title="Queue" about="Everything that takes long: what works, and what waits for its turn.">
  <Trouble problem={queue.problem ?? problem} />
  <Panel title="Runs">
    <Listing
      label="Queue"
      heads={["Turn", "Run", "State", "Rows", "#Priority", "Starts", "By", ""]}
      items={queue.data?.items}>
      {#snippet row(q: Schemas["QueuedRun"])}
        <TableBodyRow>
          <TableBodyCell>{q.position > 0 ? q.position : q.position === 0 ? "works" : "–"}</TableBodyCell>
          <TableBodyCell
            ><a class="text-link" href="#/runs/{q.run.id}">{q.run.rule}</a>
            <div class="text-xs text-gray-600 dark:text-gray-400">
              {q.run.source}.{q.run.table}
            </div></TableBodyCell>
          <TableBodyCell class="min-w-52 whitespace-normal"
            ><State state={q.run.state} />
            <div class="text-xs text-gray-600 dark:text-gray-400">
              {q.why || q.run.reason}
            </div></TableBodyCell>
          <TableBodyCell class="min-w-40"
            >{count(q.run.done)} of {count(q.run.due)}
            <Bar
              percent={share(q.run.done, q.run.due)}
              label="progress of run {q.run.rule}" /></TableBodyCell>
          <TableBodyCell class="text-right">{q.run.priority ?? 0}</TableBodyCell>
          <TableBodyCell
            >{#if q.position === 0}{q.run.seconds_left
                ? `${span(q.run.seconds_left)} left`
                : "–"}{:else if q.starts_secs !== null && q.starts_secs !== undefined}in {span(
                q.starts_secs
              )}{:else}–{/if}</TableBodyCell>
          <TableBodyCell>{q.run.started_by || "–"}</TableBodyCell>
          <TableBodyCell>
            <Turn
              name="Run {q.run.rule}"
              waits={q.position > 0}
              rests={q.position < 0}
              does={{
                sooner: (by) => first(q, by),
                pause: () => pause(q),
                resume: () => resume(q),
                cancel: () => cancel(q)
              }} />
          </TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Nothing works and nothing waits"
          >Runs that are started, by a <a class="text-link" href="#/schedule">schedule</a> or by hand, stand here
          until they end.</Blank
        >{/snippet}
    </Listing>
  </Panel>
  <Jobs />
  {#if who.may("see")}<Limits />{/if}
</Page>

<script lang="ts">
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, share, short, span } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Turn from "./Turn.svelte";
  import When from "../../lib/When.svelte";

  type Job = Schemas["QueuedJob"];
  const jobs = new Loader(() => take(api.GET("/queue/jobs")));
  let problem = $state<Problem>();
  $effect(() => whenChanged(() => jobs.load()));

  async function act(fn: () => Promise<unknown>) {
    problem = undefined;
    try {
      await fn();
    } catch (e) {
      problem = problemOf(e);
    }
    await jobs.load();
  }
  const at = (j: Job) => ({ params: { path: { kind: j.kind, job: j.id } } });
  const pause = (j: Job) => act(() => take(api.POST("/queue/jobs/{kind}/{job}/pause", at(j))));
  const resume = (j: Job) => act(() => take(api.POST("/queue/jobs/{kind}/{job}/resume", at(j))));
  const cancel = (j: Job) => act(() => take(api.POST("/queue/jobs/{kind}/{job}/cancel", at(j))));
  const first = (j: Job, by: number) =>
    act(() =>
      take(
        api.POST("/queue/jobs/{kind}/{job}/priority", {
          ...at(j),
          body: { priority: (j.priority ?? 0) + by }
        })
      )
    );
  const pages = {
    restore: "restores",
    export: "restores",
    disposal: "disposals",
    verification: "archive",
    audit: "audit"
  };
  const page = (j: Job) => pages[j.kind as keyof typeof pages] ?? `archive/${j.id}`;
  const name = (j: Job) => `${j.kind} of ${j.table ? `${j.source}.${j.table}` : j.what}`;
</script>

<Panel title="Other jobs">
  <Trouble problem={jobs.problem ?? problem} />
  <Listing
    label="Jobs"
    heads={["Job", "State", "Progress", "#Priority", "Asked", ""]}
    items={jobs.data?.items}>
    {#snippet row(j: Job)}
      <TableBodyRow>
        <TableBodyCell class="min-w-44 whitespace-normal"
          ><a class="text-link" href="#/{page(j)}">{j.what}</a>
          <div class="text-xs text-gray-600 dark:text-gray-400">
            {j.table ? `${j.source}.${j.table}` : j.kind}{j.kind in pages ? "" : `, segment ${short(j.id)}`}
          </div></TableBodyCell>
        <TableBodyCell class="min-w-40 whitespace-normal"
          ><State state={j.state} />{j.state === "waiting" ? ` ${j.position}` : ""}
          {#if j.starts_secs}starts in {span(j.starts_secs)}{/if}
          <div class="text-xs text-gray-600 dark:text-gray-400">{j.why}</div></TableBodyCell>
        <TableBodyCell class="min-w-28"
          >{#if j.of > 0}{count(j.done)} of {count(j.of)}
            {j.unit}
            <Bar
              percent={share(j.done, j.of)}
              label="progress of the {name(j)}" />{:else}–{/if}</TableBodyCell>
        <TableBodyCell class="text-right">{j.priority ?? 0}</TableBodyCell>
        <TableBodyCell
          ><When at={j.asked_at} />
          <div class="text-xs text-gray-600 dark:text-gray-400">by {j.by}</div></TableBodyCell>
        <TableBodyCell>
          <Turn
            name="The {name(j)}"
            waits={j.position > 0}
            rests={j.state === "paused"}
            does={{
              sooner: (by) => first(j, by),
              pause: () => pause(j),
              resume: () => resume(j),
              cancel: () => cancel(j)
            }} />
        </TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No other job works or waits"
        >Restores, exports, disposals, verifications, moves, second copies and exports of the audit log stand
        here from when they are asked for until they end.</Blank
      >{/snippet}
  </Listing>
</Panel>

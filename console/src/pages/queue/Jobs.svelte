<script lang="ts">
  import { Button, TableBodyCell, TableBodyRow } from "flowbite-svelte";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, share } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
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
  const page = { restore: "restores", export: "restores", disposal: "disposals", verification: "archive" };
  const name = (j: Job) => `${j.kind} of ${j.table ? `${j.source}.${j.table}` : j.what}`;
</script>

<Panel title="Restores, exports, disposals and verifications">
  <Trouble problem={jobs.problem ?? problem} />
  <Listing
    label="Jobs"
    heads={["Job", "State", "Progress", "#Priority", "Asked", ""]}
    items={jobs.data?.items}>
    {#snippet row(j: Job)}
      <TableBodyRow>
        <TableBodyCell
          ><a class="text-link" href="#/{page[j.kind as keyof typeof page]}">{j.what}</a>
          <div class="text-xs text-gray-600 dark:text-gray-400">
            {j.table ? `${j.source}.${j.table}` : j.kind}
          </div></TableBodyCell>
        <TableBodyCell class="min-w-52 whitespace-normal"
          ><State state={j.state} />{j.state === "waiting" ? ` ${j.position}` : ""}
          <div class="text-xs text-gray-600 dark:text-gray-400">{j.why}</div></TableBodyCell>
        <TableBodyCell class="min-w-40"
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
          <div class="flex gap-1">
            {#if j.position > 0}
              <Button
                size="xs"
                color="alternative"
                aria-label="The {name(j)} sooner"
                onclick={() => first(j, 10)}>↑</Button>
              <Button
                size="xs"
                color="alternative"
                aria-label="The {name(j)} later"
                onclick={() => first(j, -10)}>↓</Button>
            {/if}
            {#if j.state === "paused"}
              <Button
                size="xs"
                color="alternative"
                aria-label="Resume the {name(j)}"
                onclick={() => resume(j)}>Resume</Button>
            {:else}
              <Button size="xs" color="alternative" aria-label="Pause the {name(j)}" onclick={() => pause(j)}
                >Pause</Button>
            {/if}
            <Button size="xs" color="alternative" aria-label="Cancel the {name(j)}" onclick={() => cancel(j)}
              >Cancel</Button>
          </div>
        </TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No other job works or waits"
        >Restores, exports, disposals and verifications stand here from when they are asked for until they
        end.</Blank
      >{/snippet}
  </Listing>
</Panel>

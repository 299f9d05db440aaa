<script lang="ts">
  import { Alert, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { count, leftOut, plural, share, size, span } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import Morning from "./Morning.svelte";
  import Weeks from "./Weeks.svelte";

  const status = new Loader(() => take(api.GET("/status")));
  $effect(() => whenChanged(() => status.load()));
  let t = $derived(status.data?.totals);
  let cards = $derived(
    t
      ? [
          ["Rows in the archive", count(t.rows), plural(t.segments, "segment")],
          ["Space moved", size(t.raw_bytes), `as read from the tables`],
          [
            "Archive on disk",
            size(t.file_bytes),
            t.file_bytes ? `${(t.raw_bytes / t.file_bytes).toFixed(1)} times smaller` : "nothing yet"
          ],
          ["Rows purged", count(t.purged), "deleted without a copy, by rule"]
        ]
      : []
  );
</script>

<Page
  title="Overview"
  about={status.data
    ? `${plural(status.data.sources, "source")}, ${plural(status.data.rules, "rule")} · version ${status.data.version}`
    : ""}>
  <Trouble problem={status.problem} />
  {#if status.data && t?.segments === 0 && t.purged === 0}
    <Panel
      ><Blank title="Nothing is archived yet"
        >{status.data.sources === 0 ? "Connect your database" : "Go on"}: five steps lead to the first
        archived row.
        <div class="mt-3"><Act right="administer" size="sm" href="#/start">Begin</Act></div></Blank
      ></Panel>
  {/if}
  {#if status.data?.disagree.length}
    <Alert color="red" class="mb-4" role="alert">
      <p class="font-semibold">
        Runs of {plural(status.data.disagree.length, "table")} are stopped: source, stores and catalog disagree.
      </p>
      <ul class="mt-1 list-disc ps-5">
        {#each status.data.disagree as d (d.source + d.table)}<li>
            <a class="text-link" href="#/tables/{d.source}/{encodeURIComponent(d.table)}"
              >{d.source}.{d.table}</a
            >:
            {d.difference}
          </li>{/each}
      </ul>
    </Alert>
  {/if}
  {#if status.data?.damaged.length}
    <Alert color="red" class="mb-4" role="alert">
      <p class="font-semibold">
        {plural(status.data.damaged.length, "segment")} of the archive {status.data.damaged.length === 1
          ? "is"
          : "are"} not what was written.
      </p>
      <ul class="mt-1 list-disc ps-5">
        {#each status.data.damaged.slice(0, 5) as s (s.id)}<li>
            <a class="text-link" href="#/archive/{s.id}"
              >{s.source}.{s.table}, {s.oldest.slice(0, 10)} to {s.newest.slice(0, 10)}</a
            >: {s.second ? `there is a second copy in ${s.second}` : "there is no second copy"}
          </li>{/each}
      </ul>
    </Alert>
  {/if}
  <div class="mb-4 grid gap-3 sm:grid-cols-2 xl:grid-cols-4">
    {#each cards as [name, v, note] (name)}
      <div class="rounded-lg border border-gray-200 bg-white px-4 py-3 dark:border-gray-700 dark:bg-gray-800">
        <div class="text-xs text-gray-500 dark:text-gray-400">{name}</div>
        <div class="text-2xl font-semibold">{v}</div>
        <div class="text-xs text-gray-500 dark:text-gray-400">{note}</div>
      </div>
    {/each}
  </div>

  {#if status.data}<Morning now={status.data.now} /><Weeks now={status.data.now} />{/if}
  <Panel title="Running now">
    {#if status.data && status.data.active.length === 0}
      <Blank title="No run right now">
        {#if status.data.rules === 0}Look at <a class="text-link" href="#/tables">Tables</a> to see what takes
          the space, then <a class="text-link" href="#/rules/new">write a rule</a>.
        {:else}Open a <a class="text-link" href="#/rules">rule</a> and make a plan to see what is due.{/if}
      </Blank>
    {/if}
    {#if status.data && status.data.active_total > status.data.active.length}<p
        class="px-4 pt-3 text-sm text-gray-600 dark:text-gray-400">
        The newest {status.data.active.length} of {status.data.active_total} runs that have not ended;
        <a class="text-link" href="#/runs">all runs</a>
      </p>{/if}
    {#each status.data?.active ?? [] as r (r.id)}
      <div class="border-b border-gray-100 px-4 py-3 text-sm last:border-0 dark:border-gray-700/60">
        <div class="mb-1.5 flex flex-wrap items-center gap-3">
          <a class="text-link" href="#/runs/{r.id}">{r.rule}</a><State state={r.state} />
          <span class="text-gray-500 dark:text-gray-400">{r.source}.{r.table}, {r.action}</span>
          <span class="ms-auto"
            >{count(r.done)} of {count(r.due)} rows{#if r.seconds_left !== null && r.state === "running"}, {span(
                r.seconds_left
              )} left{/if}</span>
        </div>
        <Bar percent={share(r.done, r.due)} label="progress of run {r.rule}" />
        {#if r.reason}<p class="mt-1 text-gray-600 dark:text-gray-400">{r.reason}</p>{/if}
      </div>
    {/each}
  </Panel>

  <Panel title="Recently finished">
    <Listing
      label="Recently finished runs"
      heads={["Rule", "Table", "State", "#Rows deleted", "#Not deleted", "#In the archive", "Ended"]}
      items={status.data?.recent}>
      {#snippet row(r: Schemas["RunView"])}
        <TableBodyRow>
          <TableBodyCell><a class="text-link" href="#/runs/{r.id}">{r.rule}</a></TableBodyCell>
          <TableBodyCell>{r.source}.{r.table}</TableBodyCell>
          <TableBodyCell><State state={r.state} /></TableBodyCell>
          <TableBodyCell class="text-right">{count(r.ledger.deleted)}</TableBodyCell>
          <TableBodyCell class="text-right">{count(leftOut(r.ledger))}</TableBodyCell>
          <TableBodyCell class="text-right"
            >{r.action === "archive" ? size(r.file_bytes) : "–"}</TableBodyCell>
          <TableBodyCell><When at={r.ended_at} /></TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="No run has ended yet" />{/snippet}
    </Listing>
  </Panel>
</Page>

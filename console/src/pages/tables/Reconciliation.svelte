<script lang="ts">
  // What source, stores and catalog tell of a table, and how a difference is settled.
  import { Input, Label, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, plural } from "../../lib/format";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Facts from "../../lib/Facts.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  let { source, table }: { source: string; table: string } = $props();
  const loader = new Loader(() =>
    take(api.GET("/sources/{source}/tables/{table}/reconciliation", { params: { path: { source, table } } }))
  );
  $effect(() => {
    loader.load();
  });
  let reason = $state("");
  let busy = $state(false);
  let problem = $state<Problem>();
  let settled = $state<Schemas["Reconciliation"]>();
  let x = $derived(settled ?? loader.data);

  async function settle() {
    problem = undefined;
    busy = true;
    try {
      settled = await take(
        api.POST("/sources/{source}/tables/{table}/reconciliation", {
          params: { path: { source, table } },
          body: { reason }
        })
      );
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<Panel
  title="Source, stores and catalog"
  note={x ? (x.agree ? "they agree" : "they disagree: runs of this table are stopped") : ""}>
  <div class="px-4 pt-2"><Trouble problem={loader.problem ?? problem} /></div>
  {#if x}
    {#if !x.agree}
      <div class="px-4 pt-2">
        {#each x.differences as d (d)}<Warning class="mb-2">{d}</Warning>{/each}
        <p class="mt-2 text-sm font-medium">Settling would do this:</p>
        <ul class="list-disc ps-5 text-sm">
          {#each x.settling as s (s)}<li>{s}</li>{/each}
        </ul>
        <form
          class="flex flex-wrap items-end gap-3 py-3"
          onsubmit={(e) => {
            e.preventDefault();
            settle();
          }}>
          <div class="grow">
            <Label for="reason" class="mb-1">What happened</Label><Input
              id="reason"
              bind:value={reason}
              size="sm"
              placeholder="for instance: restored from the backup of last night"
              required />
          </div>
          <Act right="administer" any size="sm" type="submit" disabled={busy || reason.trim() === ""}
            >Settle it</Act>
        </form>
      </div>
    {/if}
    <Facts
      facts={[
        ["Identity", x.identity || "no journal yet"],
        ["Identity by the catalog", x.known?.identity ?? "no run yet"],
        ["Server", x.server],
        ["Lease in the source", count(x.epoch)],
        ["Lease by the catalog", x.known ? count(x.known.epoch) : ""],
        ["Newest link in the source", count(x.source_link)],
        ["Newest link in the catalog", count(x.catalog_link)],
        ["Newest link in the stores", count(x.store_link)]
      ]} />
    {#if x.totals}
      {@const t = x.totals}
      <div
        class="space-y-1 border-t border-gray-200 px-4 py-3 text-sm dark:border-gray-700"
        data-testid="totals">
        <p>
          <b>{plural(t.records, "record")}</b>{t.counted ? "" : ", about"}: {count(t.live)} live + {count(
            t.archived
          )} archived − {count(t.again)} archived again later − {count(t.restored)} put back
        </p>
        <p>
          {plural(t.by_runs + t.adopted, "row")} deleted by runs = {count(t.archived)} archived + {count(
            t.disposed
          )} disposed of + {count(t.purged)} purged + {count(t.erased)} erased{#if t.adds_up}: <span
              class="text-green-700 dark:text-green-400">adds up</span
            >{:else}: <b class="text-red-700 dark:text-red-400">does not add up</b>{/if}
        </p>
        {#if t.untold}<p>
            {plural(t.untold, "segment")} in cold storage may have versions of rows that are archived again.
          </p>{/if}
      </div>
    {/if}
    {#if x.reappeared.length}
      <Listing
        label="Segments whose rows are live again"
        heads={["Segment", "#Deleted by its record", "#Live again"]}
        items={x.reappeared}>
        {#snippet row(r: Schemas["Reappeared"])}<TableBodyRow
            ><TableBodyCell><a class="text-link" href="#/archive/{r.segment}">{r.segment}</a></TableBodyCell
            ><TableBodyCell class="text-right">{count(r.deleted)}</TableBodyCell><TableBodyCell
              class="text-right">{count(r.live)}</TableBodyCell
            ></TableBodyRow
          >{/snippet}
        {#snippet empty()}<Blank title="None" />{/snippet}
      </Listing>
    {/if}
  {/if}
</Panel>

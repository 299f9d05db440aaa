<script lang="ts">
  // When a rule runs by itself: in words, its next firings with their cutoffs, and what became of the last ones.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Warning from "../../lib/Warning.svelte";
  import ByWish from "./ByWish.svelte";
  import When from "../../lib/When.svelte";
  let { rule, changed }: { rule: string; changed: () => void } = $props();
  const times = new Loader(() => take(api.GET("/rules/{rule}/schedule", { params: { path: { rule } } })));
  const firings = new Loader(() => take(api.GET("/firings", { params: { query: { rule, limit: 5 } } })));
  $effect(() =>
    whenChanged(() => {
      times.load();
      firings.load();
    })
  );
  let limit = $derived(times.data?.limit);
  let limits = $derived(
    [
      limit?.rows && `${count(limit.rows)} rows`,
      limit?.share && `${100 * limit.share} % of the table`,
      limit?.against_last && `${limit.against_last} times the run before`
    ]
      .filter(Boolean)
      .join(" or ")
  );
</script>

<Panel title="Schedule" note={times.data?.named ? `the schedule ${times.data.named}` : ""}>
  {#if times.data && !times.data.spoken}
    <Blank title="This rule runs by hand only"
      ><a class="text-link" href="#/rules/{rule}/edit">Give it a schedule</a>, like
      <code>daily at 02:30</code>, and it plans and runs by itself.</Blank>
  {:else if times.data}
    <p class="px-4 pt-3 text-sm">
      {times.data.enabled ? "Fires" : "Not enabled, and so it does not fire:"}
      {times.data.spoken}. Firings that are missed {times.data.missed === "skip"
        ? "are skipped"
        : "are made up for by one run"}.
      {#if limits}A run that would take more than {limits} asks first.{/if}
    </p>
    {#if times.data.off}<Warning class="mx-4 mt-3"
        >Off its schedule since <When at={times.data.off.placed_at} />, by {times.data.off.placed_by}: {times
          .data.off.reason}{#if times.data.off.until}{" "}(until <When
            at={times.data.off.until} />){:else if times.data.off.until_done}{" "}(until its run is done){/if}</Warning
      >{/if}
    <Listing label="Next firings" heads={["Next", "Takes what is before"]} items={times.data.next}>
      {#snippet row(n: Schemas["NextFiring"])}
        <TableBodyRow>
          <TableBodyCell><When at={n.at} /></TableBodyCell>
          <TableBodyCell class="whitespace-normal">
            {#each n.cutoffs as c (c.clause)}<span class="me-3"
                ><When at={c.cutoff} none="never due" />{#if n.cutoffs.length > 1}<span
                    class="text-gray-500 dark:text-gray-400">{" "}({c.label})</span
                  >{/if}</span
              >{/each}
          </TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="No firing is to come" />{/snippet}
    </Listing>
  {/if}
  {#if times.data}<ByWish
      {rule}
      times={times.data}
      done={() => {
        times.load();
        firings.load();
        changed();
      }} />{/if}
  {#if firings.data?.items.length}
    <Listing
      label="Last firings"
      heads={["Fired", "State", "#Rows due", "Run", "Why"]}
      items={firings.data.items}>
      {#snippet row(f: Schemas["Firing"])}
        <TableBodyRow>
          <TableBodyCell><When at={f.at} /></TableBodyCell>
          <TableBodyCell><State state={f.state} /></TableBodyCell>
          <TableBodyCell class="text-right">{f.plan ? count(f.due) : "–"}</TableBodyCell>
          <TableBodyCell
            >{#if f.run}<a class="text-link" href="#/runs/{f.run}">open</a>{:else}–{/if}</TableBodyCell>
          <TableBodyCell class="max-w-80 whitespace-normal">{f.reason}</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="It has not fired yet" />{/snippet}
    </Listing>
  {/if}
</Panel>

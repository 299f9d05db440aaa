<script lang="ts">
  // A table's partitions, and how the next ones are made in advance.
  import { Button, Input, Label, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, day, plural, size } from "../../lib/format";
  import { problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { source, table, made }: { source: string; table: Schemas["Table"]; made: () => void } = $props();
  let ahead = $state(3);
  let seen = $state<Schemas["PartitionsAhead"]>();
  let problem = $state<Problem>();
  let busy = $state(false);
  let items = $derived(table.partitions ?? []);
  let catchAll = $derived(table.catch_all);

  async function make(attempt: boolean) {
    problem = undefined;
    busy = true;
    try {
      seen = await take(
        api.POST("/sources/{source}/tables/{table}/partitions", {
          params: { path: { source, table: table.name } },
          body: { ahead: Number(ahead), try: attempt }
        })
      );
      if (!attempt) made();
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<Listing
  label="Partitions"
  heads={["Partition", "From", "To", "#Rows", "#Data", "#Indexes", "Cannot leave as a whole"]}
  {items}>
  {#snippet row(p: Schemas["Partition"])}
    <TableBodyRow>
      <TableBodyCell class="font-medium"
        >{p.name}{#if p.name === catchAll}<span class="ms-2 text-xs text-gray-500 dark:text-gray-400"
            >takes what no other does</span
          >{/if}</TableBodyCell
      ><TableBodyCell>{day(p.from)}</TableBodyCell><TableBodyCell>{day(p.to)}</TableBodyCell>
      <TableBodyCell class="text-right">{count(p.rows)}</TableBodyCell><TableBodyCell class="text-right"
        >{size(p.bytes)}</TableBodyCell
      ><TableBodyCell class="text-right">{size(p.index_bytes)}</TableBodyCell><TableBodyCell
        class="whitespace-normal">{p.hinders ?? ""}</TableBodyCell>
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}<Blank title="No partitions" />{/snippet}
</Listing>
<form
  class="flex flex-wrap items-end gap-3 px-4 py-3"
  onsubmit={(e) => {
    e.preventDefault();
    make(true);
  }}>
  <div>
    <Label for="ahead" class="mb-1">Make the next</Label><Input
      id="ahead"
      type="number"
      min="1"
      max="120"
      bind:value={ahead}
      class="w-24"
      size="sm" />
  </div>
  <Button size="sm" color="alternative" type="submit" disabled={busy}>Show what would be sent</Button>
  {#if seen && !seen.made}<Act right="operate" any size="sm" disabled={busy} onclick={() => make(false)}
      >Make {plural(seen.partitions.length, "partition")}</Act
    >{/if}
</form>
<div class="px-4 pb-3" aria-live="polite">
  <Trouble {problem} />
  {#if seen?.made}<p class="text-sm">Made: {seen.partitions.map((p) => p.name).join(", ")}</p>
  {:else if seen}<pre class="font-mono text-xs whitespace-pre-wrap">{seen.statements.join(";\n")}</pre>{/if}
</div>

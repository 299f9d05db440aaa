<script lang="ts">
  // A run's books clause by clause.
  import { TableBodyCell, TableBodyRow } from "flowbite-svelte";
  import type { Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import When from "../../lib/When.svelte";
  let { run }: { run: Schemas["RunView"] } = $props();
</script>

<Listing label="Clauses of the run" heads={["Clause", "Then", "Cutoff", "#Due by plan", "#Copied or found", "#Deleted", "#Changed", "#Vanished", "#Held", "#Skipped"]} items={run.passes}>
  {#snippet row(p: Schemas["Pass"])}
    <TableBodyRow>
      <TableBodyCell class="max-w-72 whitespace-normal font-mono text-xs">{p.label}</TableBodyCell><TableBodyCell>{p.then}{p.store ? ` to ${p.store}` : ""}</TableBodyCell><TableBodyCell><When at={p.cutoff} day /></TableBodyCell>
      {#each [p.due, p.ledger.copied, p.ledger.deleted, p.ledger.changed, p.ledger.vanished, p.ledger.held, p.ledger.skipped] as n, i (i)}<TableBodyCell class="text-right">{count(n)}</TableBodyCell>{/each}
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}<Blank title="No clause takes rows" />{/snippet}
</Listing>

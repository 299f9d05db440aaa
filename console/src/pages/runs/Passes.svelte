<script lang="ts">
  // A run's books clause by clause, and table by table where related rows went along.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import When from "../../lib/When.svelte";
  let { run }: { run: Schemas["RunView"] } = $props();
  type Line = {
    label: string;
    then: string;
    store?: string;
    cutoff?: string;
    due?: number;
    ledger: Schemas["Ledger"];
    related: boolean;
  };
  let lines = $derived(
    run.passes.flatMap((p): Line[] => [
      { ...p, related: false },
      ...(p.related ?? []).map((x) => ({
        label: x.table,
        then: x.then,
        store: x.store,
        ledger: x.ledger,
        related: true
      }))
    ])
  );
  const counts = (l: Schemas["Ledger"]) => [
    l.copied,
    l.deleted,
    l.unlinked,
    l.changed,
    l.vanished,
    l.held,
    l.skipped
  ];
</script>

<Listing
  label="Clauses of the run"
  heads={[
    "Clause",
    "Then",
    "Cutoff",
    "#Due by plan",
    "#Copied or found",
    "#Deleted",
    "#Unlinked",
    "#Changed",
    "#Vanished",
    "#Held",
    "#Skipped"
  ]}
  items={lines}>
  {#snippet row(p: Line)}
    <TableBodyRow>
      <TableBodyCell class="max-w-72 whitespace-normal font-mono text-xs"
        >{#if p.related}<span class="ps-4 font-sans text-gray-600 dark:text-gray-400">with&nbsp;</span
          >{/if}{p.label}</TableBodyCell
      ><TableBodyCell>{p.then}{p.store ? ` to ${p.store}` : ""}</TableBodyCell><TableBodyCell
        >{#if p.cutoff}<When at={p.cutoff} day />{/if}</TableBodyCell>
      <TableBodyCell class="text-right">{p.due === undefined ? "" : count(p.due)}</TableBodyCell>
      {#each counts(p.ledger) as n, i (i)}<TableBodyCell class="text-right">{count(n)}</TableBodyCell>{/each}
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}<Blank title="No clause takes rows" />{/snippet}
</Listing>

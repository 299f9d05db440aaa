<script lang="ts">
  // What each clause of a plan governs and takes.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { age, count } from "../../lib/format";
  import Listing from "../../lib/Listing.svelte";
  import Blank from "../../lib/Blank.svelte";
  import When from "../../lib/When.svelte";
  // compact leaves out what a narrow place has no room for.
  let { plan, compact = false }: { plan: Schemas["Plan"]; compact?: boolean } = $props();
  const number = (n: number | undefined) => (n === undefined || n < 0 ? "not counted" : count(n));
  let lines = $derived(plan.detail.clauses.map((c, i) => ({ ...c, n: plan.counts.clauses[i] })));
</script>

<Listing
  label="Clauses"
  heads={compact
    ? ["Rows", "Stay", "#Governed", "#Due"]
    : ["Rows", "Stay", "Cutoff", "Then", "#Governed", "#Due", "Last that goes, first that stays"]}
  items={lines}>
  {#snippet row(c: (typeof lines)[number])}
    <TableBodyRow>
      <TableBodyCell class="{compact ? 'min-w-36' : 'min-w-52'} max-w-80 whitespace-normal"
        ><span class="font-mono text-xs">{c.label}</span>{#if c.about || c.locked}<div
            class="text-xs text-gray-500 dark:text-gray-400">
            {c.about}{c.locked ? ` Locked: ${c.locked}` : ""}
          </div>{/if}</TableBodyCell>
      <TableBodyCell>{c.keep}</TableBodyCell>
      {#if !compact}
        <TableBodyCell><When at={c.cutoff} none="never due" day /></TableBodyCell>
        <TableBodyCell>{c.cutoff ? c.then + (c.store ? ` to ${c.store}` : "") : "stay"}</TableBodyCell>
      {/if}
      <TableBodyCell class="text-right">{number(c.n?.rows)}</TableBodyCell>
      <TableBodyCell class="text-right font-semibold">{number(c.n?.due)}</TableBodyCell>
      {#if !compact}
        <TableBodyCell>{age(c.n?.last_going ?? "")}<br />{age(c.n?.first_stays ?? "")}</TableBodyCell>
      {/if}
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}<Blank title="No clauses" />{/snippet}
</Listing>

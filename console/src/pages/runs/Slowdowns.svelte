<script lang="ts">
  // When a run went slower than its pace, or rested, and why.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { span } from "../../lib/format";
  import Listing from "../../lib/Listing.svelte";
  import When from "../../lib/When.svelte";
  let { items }: { items: Schemas["Slowdown"][] } = $props();
  const lasted = (s: Schemas["Slowdown"]) =>
    s.ended ? (Date.parse(s.ended) - Date.parse(s.begun)) / 1000 : undefined;
</script>

<Listing label="Slow-downs" heads={["From", "Went", "#For", "Reason"]} {items}>
  {#snippet row(s: Schemas["Slowdown"])}
    <TableBodyRow>
      <TableBodyCell><When at={s.begun} /></TableBodyCell><TableBodyCell
        >{s.rests ? "rested" : "slower"}</TableBodyCell>
      <TableBodyCell class="text-right"
        >{lasted(s) === undefined
          ? "still"
          : lasted(s)! < 60
            ? `${lasted(s)!.toFixed(1)} s`
            : span(lasted(s)!)}</TableBodyCell>
      <TableBodyCell class="whitespace-normal">{s.reason}</TableBodyCell>
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}{/snippet}
</Listing>

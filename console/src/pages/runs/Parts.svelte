<script lang="ts">
  // What became of the partitions that were to leave as a whole.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { count, day, span } from "../../lib/format";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  let { items }: { items: Schemas["Part"][] } = $props();
  const states: Record<string, string> = {
    waiting: "waits",
    copying: "being copied",
    copied: "copied, on its way out",
    left: "left as a whole",
    rows: "row by row"
  };
  const took = (micros: number) =>
    micros === 0 ? "–" : micros < 10_000_000 ? `${(micros / 1e6).toFixed(2)} s` : span(micros / 1e6);
</script>

<Listing
  label="Partitions of the run"
  heads={[
    "Partition",
    "From",
    "To",
    "State",
    "#Rows that left",
    "#Copied in",
    "#Compared in",
    "#Taken out and dropped in"
  ]}
  {items}>
  {#snippet row(p: Schemas["Part"])}
    <TableBodyRow>
      <TableBodyCell class="font-medium">{p.name || "the whole table"}</TableBodyCell><TableBodyCell
        >{day(p.from)}</TableBodyCell
      ><TableBodyCell>{day(p.to)}</TableBodyCell>
      <TableBodyCell class="whitespace-normal"
        >{p.state === "left" && !p.name ? "emptied at once" : (states[p.state] ?? p.state)}{p.reason
          ? `: ${p.reason}`
          : ""}</TableBodyCell
      ><TableBodyCell class="text-right">{p.state === "left" ? count(p.left) : ""}</TableBodyCell>
      {#each [p.copy_micros, p.compare_micros, p.drop_micros] as n, i (i)}<TableBodyCell class="text-right"
          >{took(n)}</TableBodyCell
        >{/each}
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}<Blank title="No partition leaves as a whole" />{/snippet}
</Listing>

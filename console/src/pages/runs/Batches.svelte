<script lang="ts">
  // The newest batches of a run, as a picture and as a list.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { count, size } from "../../lib/format";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import When from "../../lib/When.svelte";
  import BatchChart from "./BatchChart.svelte";

  let { items }: { items?: Schemas["Batch"][] } = $props();
</script>

<Panel title="Batches" note="the newest 200">
  {#if items?.length}<BatchChart batches={items} />{/if}
  <Listing
    label="Batches"
    heads={[
      "Batch",
      "At",
      "#Rows",
      "#Deleted",
      "#Changed",
      "#Vanished",
      "#Held",
      "#Skipped",
      "#Took",
      "#Rest",
      "#Log"
    ]}
    items={items?.slice(0, 12)}>
    {#snippet row(b: Schemas["Batch"])}
      <TableBodyRow>
        <TableBodyCell>{b.segment}/{b.number}{b.retry ? " again" : ""}</TableBodyCell><TableBodyCell
          ><When at={b.at} /></TableBodyCell>
        {#each [b.rows, b.deleted, b.changed, b.vanished, b.held, b.skipped] as n, i (i)}<TableBodyCell
            class="text-right">{count(n)}</TableBodyCell
          >{/each}
        <TableBodyCell class="text-right">{(b.micros / 1000).toFixed(1)} ms</TableBodyCell><TableBodyCell
          class="text-right">{(b.rest_micros / 1000).toFixed(1)} ms</TableBodyCell
        ><TableBodyCell class="text-right">{b.log_bytes == null ? "–" : size(b.log_bytes)}</TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No batch yet">The first slice is being read, stored and verified.</Blank
      >{/snippet}
  </Listing>
</Panel>

<script lang="ts">
  // The tables whose rows go along with those of a plan.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  let { plan }: { plan: Schemas["Plan"] } = $props();
</script>

<Listing
  label="Related tables"
  heads={["Related table", "Goes with", "Then", "#Rows"]}
  items={plan.detail.related}>
  {#snippet row(r: Schemas["PlanRelated"])}
    <TableBodyRow>
      <TableBodyCell
        ><span class="font-mono text-xs">{r.table}</span>{#if r.keeps}<div
            class="text-xs text-gray-500 dark:text-gray-400">
            what its own rule keeps, keeps its family
          </div>{/if}</TableBodyCell>
      <TableBodyCell class="font-mono text-xs">{r.above} ({r.on})</TableBodyCell><TableBodyCell
        >{r.then}</TableBodyCell>
      <TableBodyCell class="text-right">{r.rows < 0 ? "not counted" : count(r.rows)}</TableBodyCell>
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}<Blank title="No related tables" />{/snippet}
</Listing>

<script lang="ts">
  // What a look at a source found: rights that are there or lack, and obstacles.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import State from "../../lib/State.svelte";
  let { report }: { report: Schemas["Report"] } = $props();
</script>

<p class="px-4 py-2 text-sm text-gray-600 dark:text-gray-400">
  {report.engine}
  {report.version}{report.user ? `, as ${report.user}` : ""}{report.tls ? ` · TLS: ${report.tls}` : ""}
  · journal: {report.journal}
</p>
<Listing label="What the check found" heads={["Level", "Table", "What", "Remedy"]} items={report.items}>
  {#snippet row(f: Schemas["SourceFinding"])}
    <TableBodyRow>
      <TableBodyCell><State state={f.level} /></TableBodyCell>
      <TableBodyCell>{f.table || "–"}</TableBodyCell>
      <TableBodyCell class="whitespace-normal">{f.text}</TableBodyCell>
      <TableBodyCell class="whitespace-normal">{f.remedy}</TableBodyCell>
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}<Blank title="Nothing to say">The service has what it needs.</Blank>{/snippet}
</Listing>

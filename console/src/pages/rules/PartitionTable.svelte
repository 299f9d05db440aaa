<script lang="ts">
  // How each partition's rows would leave: as a picture of their sizes, and as a list with the reasons.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { count, day, plural, size } from "../../lib/format";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  let { detail }: { detail: Schemas["PlanDetail"] } = $props();
  const ways = {
    whole: { text: "as a whole", color: "bg-primary-500" },
    rows: { text: "row by row", color: "bg-amber-400" },
    stays: { text: "stays", color: "bg-gray-300 dark:bg-gray-600" }
  };
  type Part = Schemas["PlanPartition"];
  const way = (p: Part) => ways[p.way as keyof typeof ways];
  let total = $derived(
    Math.max(
      1,
      detail.partitions.reduce((n, p) => n + Math.max(p.bytes, 1), 0)
    )
  );
  let used = $derived(
    (["whole", "rows", "stays"] as const)
      .map((w) => ({ ...ways[w], items: detail.partitions.filter((p) => p.way === w) }))
      .filter((x) => x.items.length)
  );
</script>

<div class="px-4 pt-2">
  <div
    class="flex h-6 gap-px overflow-hidden rounded"
    role="img"
    aria-label={`Partitions by size, the oldest first: ${used.map((x) => `${x.items.length} ${x.text}`).join(", ")}`}>
    {#each detail.partitions as p (p.name)}<div
        class="{way(p).color} min-w-1"
        style:width="{(100 * Math.max(p.bytes, 1)) / total}%"
        title="{p.name}: {count(p.rows)} rows, {way(p).text}">
      </div>{/each}
  </div>
  <div class="mt-1 flex flex-wrap gap-4 text-xs text-gray-600 dark:text-gray-400">
    {#each used as x (x.text)}<span
        ><span class="me-1 inline-block size-2.5 rounded-sm {x.color}"></span>{plural(
          x.items.length,
          "partition"
        )}
        {x.items.length === 1 ? x.text : x.text.replace("stays", "stay")}</span
      >{/each}
    {#if detail.catch_all}<span
        >{detail.catch_all.name} takes what no other does: {count(detail.catch_all.rows)} rows, {count(
          detail.catch_all.due
        )} of them due</span
      >{/if}
  </div>
</div>
<details class="px-4 py-2 text-sm">
  <summary class="cursor-pointer font-medium">Partition by partition</summary>
  <Listing
    label="Partitions"
    heads={["Partition", "From", "To", "#Rows", "#Data", "#Indexes", "Leaves", "Because"]}
    items={detail.partitions}>
    {#snippet row(p: Part)}
      <TableBodyRow>
        <TableBodyCell class="font-medium">{p.name}</TableBodyCell><TableBodyCell>{day(p.from)}</TableBodyCell
        ><TableBodyCell>{day(p.to)}</TableBodyCell>
        <TableBodyCell class="text-right">{count(p.rows)}</TableBodyCell><TableBodyCell class="text-right"
          >{size(p.bytes)}</TableBodyCell
        ><TableBodyCell class="text-right">{size(p.index_bytes)}</TableBodyCell>
        <TableBodyCell>{way(p).text}</TableBodyCell><TableBodyCell class="whitespace-normal"
          >{p.why ?? ""}</TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No partitions" />{/snippet}
  </Listing>
  <p class="py-2 text-xs text-gray-600 dark:text-gray-400">
    What leaves as a whole takes its part of every index along; rows that go one by one leave room in the
    indexes, which the database cleans later.
  </p>
</details>

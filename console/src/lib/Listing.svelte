<script lang="ts" generics="T">
  // A dense table: heads (those that begin with # are numbers, set right), a row snippet, and what stands there when
  // the list is empty or not there yet.
  import type { Snippet } from "svelte";
  import { Spinner, Table, TableBody, TableHead, TableHeadCell } from "./ui";
  let {
    heads,
    items,
    row,
    empty,
    label
  }: { heads: string[]; items: T[] | undefined; row: Snippet<[T]>; empty: Snippet; label: string } = $props();
</script>

{#if items === undefined}
  <div class="p-8 text-center" aria-busy="true"><Spinner size="6" /><span class="sr-only">loading</span></div>
{:else if items.length === 0}
  {@render empty()}
{:else}
  <Table hoverable aria-label={label}>
    <TableHead>
      {#each heads as h (h)}<TableHeadCell class={h.startsWith("#") ? "text-right" : ""}
          >{h.replace("#", "")}</TableHeadCell
        >{/each}
    </TableHead>
    <TableBody>
      {#each items as item, i (i)}{@render row(item)}{/each}
    </TableBody>
  </Table>
{/if}

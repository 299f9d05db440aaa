<script lang="ts">
  // The segments that a disposal is to destroy, and what becomes of each.
  import type { Schemas } from "../../api/client";
  import { age, count, short, size } from "../../lib/format";
  import When from "../../lib/When.svelte";

  let { d, items }: { d: Schemas["Disposal"]; items: Schemas["PlacedItem"][] } = $props();
  function becomes(x: Schemas["PlacedItem"]): string {
    if (x.left) return `left: ${x.left}`;
    return d.state === "cancelled" ? "stays" : `goes, from ${x.stores.join(" and ")}`;
  }
</script>

<table class="w-full text-left text-xs">
  <thead class="text-gray-500 dark:text-gray-400"
    ><tr
      ><th class="py-1 font-medium">Segment</th><th class="text-right font-medium">Rows</th><th
        class="text-right font-medium">File</th
      ><th class="ps-4 font-medium">Ages</th><th class="font-medium">Time over</th><th class="font-medium"
        >What becomes of it</th
      ></tr
    ></thead>
  <tbody>
    {#each items as x (x.segment)}
      <tr class="border-t border-gray-100 dark:border-gray-700/60"
        ><td class="py-1"
          ><a class="text-link font-mono" href="#/archive/{x.segment}" title={x.segment}>{short(x.segment)}</a
          ></td
        ><td class="text-right">{count(x.rows)}</td><td class="text-right">{size(x.bytes)}</td><td
          class="ps-4">{age(x.oldest).slice(0, 10)} to {age(x.newest).slice(0, 10)}</td
        ><td><When at={x.due} day /></td>
        <td
          >{#if x.destroyed}destroyed <When at={x.destroyed} />{:else}{becomes(
              x
            )}{/if}{#each x.remains ?? [] as left (left)}<div class="text-amber-800 dark:text-amber-300">
              what may hold it still: {left}
            </div>{/each}{#if x.kept}<div title={x.why}>
              {count(x.kept)} of its rows stay{#if x.successor}, in <a
                  class="text-link font-mono"
                  href="#/archive/{x.successor}"
                  title={x.successor}>{short(x.successor)}</a
                >{/if}: {x.why}
            </div>{/if}</td
        ></tr>
    {/each}
  </tbody>
</table>

<script lang="ts">
  // What the database shows of its load, each signal beside its limit, and the times in which it slowed the run.
  import { Badge, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { amount } from "../../lib/format";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  let { pressure }: { pressure: Schemas["Pressure"] } = $props();
  const levels = { calm: "green", near: "yellow", over: "red", open: "gray" } as const;
  const words = { calm: "calm", near: "slows the run", over: "beyond its limit", open: "no limit" } as const;
  type Reading = Schemas["Reading"];
  // The share of its limit that a value takes, in percent; of a floor, the share that the floor takes of the value.
  function used(r: Reading): number {
    const [part, whole] = r.floor ? [r.limit ?? 0, r.value] : [r.value, r.limit ?? 0];
    return whole > 0 ? Math.min(100, (100 * part) / whole) : part > 0 ? 100 : 0;
  }
</script>

<Listing label="Signals" heads={["Signal", "#Now", "#Limit", "Used", "Level"]} items={pressure.readings}>
  {#snippet row(r: Reading)}
    <TableBodyRow>
      <TableBodyCell>{r.label}</TableBodyCell>
      <TableBodyCell class="text-right font-medium">{amount(r.value, r.unit)}</TableBodyCell>
      <TableBodyCell class="text-right text-gray-600 dark:text-gray-400"
        >{r.limit == null
          ? "none"
          : `at ${r.floor ? "least" : "most"} ${amount(r.limit, r.unit)}`}</TableBodyCell>
      <TableBodyCell class="w-40"
        >{#if r.limit != null}<Bar
            percent={used(r)}
            label={`${r.label}: share of its limit`}
            color={r.level === "over"
              ? "bg-red-600"
              : r.level === "near"
                ? "bg-yellow-400"
                : "bg-primary-500"} />{/if}</TableBodyCell>
      <TableBodyCell
        ><Badge color={levels[r.level as keyof typeof levels]}>{words[r.level as keyof typeof words]}</Badge
        ></TableBodyCell>
    </TableBodyRow>
  {/snippet}
  {#snippet empty()}<Blank title="The database tells nothing of its load"
      >`source check` says which right lacks.</Blank
    >{/snippet}
</Listing>

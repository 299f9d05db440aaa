<script lang="ts">
  // Whether the runs of a rule take the rows that become due, and what would help.
  import { Badge } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  import Facts from "../../lib/Facts.svelte";
  import Panel from "../../lib/Panel.svelte";
  import When from "../../lib/When.svelte";
  let { kept }: { kept: Schemas["KeepingUp"] } = $props();
  const colours = { "keeps up": "green", behind: "yellow", "falls behind": "red", unknown: "gray" } as const;
  let colour = $derived(colours[kept.state as keyof typeof colours] ?? "gray");
</script>

{#snippet counted()}{#if kept.counted_at}<When at={kept.counted_at} />{:else}not yet{/if}{/snippet}
<Panel title="Keeping up" note="what becomes due, and what its runs take">
  <div class="px-4 py-3 text-sm">
    <p class="mb-3 flex flex-wrap items-baseline gap-2">
      <Badge color={colour}>{kept.state}</Badge><span>{kept.spoken}</span>
    </p>
    {#if kept.help?.length}
      <p class="mb-3">What would help: {kept.help.join("; or ").replaceAll("`", "")}</p>
    {/if}
    {#if kept.problem}<p class="mb-3">It could not be counted what becomes due: {kept.problem}</p>{/if}
  </div>
  <Facts
    facts={[
      ["Due now, about", count(kept.due)],
      ["Become due a day", kept.inflow < 0 ? "not known" : count(Math.round(kept.inflow))],
      ["Its runs took a day", count(Math.round(kept.taken))],
      ["Counted", counted]
    ]} />
</Panel>

<script lang="ts" module>
  /** A larger table is counted only when somebody asks: that reads all of it. */
  export const countedUnasked = 1_000_000;
</script>

<script lang="ts">
  // What a rule that is being written would do today.
  import { Button } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  import Panel from "../../lib/Panel.svelte";
  import ClauseTable from "./ClauseTable.svelte";
  import RelatedTable from "./RelatedTable.svelte";
  import Spread from "./Spread.svelte";
  import Timeline from "./Timeline.svelte";

  let { plan, counting, ask }: { plan: Schemas["Plan"]; counting: boolean; ask: () => void } = $props();
</script>

<Panel
  title="What it would do"
  note={plan.counts.counted
    ? "counted"
    : counting
      ? "estimated from the database's statistics; counting …"
      : "estimated from the database's statistics"}>
  <p class="px-4 pt-3 text-sm">
    <span class="text-2xl font-semibold">{count(plan.counts.due)}</span> of {plan.counts.counted
      ? ""
      : "about "}{count(plan.counts.total)} rows would be due today
  </p>
  {#if plan.counts.total > countedUnasked && !plan.counts.counted}<p class="px-4 pt-2">
      <Button size="xs" color="alternative" disabled={counting} onclick={ask}>Count them</Button>
    </p>{/if}
  <Timeline {plan} />
  <Spread {plan} />
  <ClauseTable {plan} compact />
  {#if plan.detail.related.length}<RelatedTable {plan} />{/if}
</Panel>

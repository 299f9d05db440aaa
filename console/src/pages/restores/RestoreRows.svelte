<script lang="ts">
  // Which rows are to be restored.
  import { Input, Label, Radio, Select } from "../../lib/ui";
  import { plural } from "../../lib/format";
  import type { Choice, RestoreForm } from "./form";

  type Props = { form: RestoreForm; picked: string[]; tables: Choice[]; runs: Choice[]; segments: Choice[] };
  let { form = $bindable(), picked, tables, runs, segments }: Props = $props();
</script>

<fieldset class="space-y-2">
  <legend class="mb-1 text-sm font-semibold">Which rows</legend>
  <div class="flex gap-6">
    {#if picked.length}<Radio name="kind" value="rows" bind:group={form.kind}
        >{plural(picked.length, "picked row")}</Radio
      >{/if}<Radio name="kind" value="span" bind:group={form.kind}>a condition or span of time</Radio><Radio
      name="kind"
      value="run"
      bind:group={form.kind}>a run</Radio
    ><Radio name="kind" value="segment" bind:group={form.kind}>a segment</Radio>
  </div>
  {#if form.kind === "span"}
    <Label for="table">Table</Label><Select
      id="table"
      items={tables}
      bind:value={form.table}
      placeholder="choose a table"
      required />
    <div class="space-y-1">
      <Label for="where">Condition</Label><Input
        id="where"
        class="font-mono"
        bind:value={form.where}
        placeholder="like booking_id = 4711; nothing: every row"
        spellcheck="false" />
    </div>
    <div class="grid grid-cols-2 gap-3">
      <div class="space-y-1">
        <Label for="from">From this day on (UTC)</Label><Input id="from" type="date" bind:value={form.from} />
      </div>
      <div class="space-y-1">
        <Label for="to">To before this day (UTC)</Label><Input id="to" type="date" bind:value={form.to} />
      </div>
    </div>
  {:else if form.kind === "run"}
    <Label for="run">Run</Label><Select
      id="run"
      items={runs}
      bind:value={form.run}
      placeholder="choose a run"
      required />
  {:else if form.kind === "segment"}
    <Label for="segment">Segment</Label><Select
      id="segment"
      items={segments}
      bind:value={form.segment}
      placeholder="choose a segment"
      required />
  {/if}
</fieldset>

<script lang="ts">
  // Where the rows go, and what becomes of those whose key is there already.
  import { Input, Label, Radio, Select } from "../../lib/ui";
  import { plural } from "../../lib/format";
  import type { RestoreForm } from "./form";

  let { form = $bindable() }: { form: RestoreForm } = $props();
</script>

<fieldset class="space-y-2">
  <legend class="mb-1 text-sm font-semibold">Where to</legend>
  <div class="flex gap-6">
    <Radio name="target" value="table" bind:group={form.target}>into their table</Radio><Radio
      name="target"
      value="side"
      bind:group={form.target}>into a side table</Radio
    ><Radio name="target" value="file" bind:group={form.target}>into a file</Radio>
  </div>
  {#if form.target === "file"}
    <Label for="format">Format</Label><Select
      id="format"
      items={[
        { value: "csv", name: "CSV" },
        { value: "csv-safe", name: "CSV for spreadsheets: no text is a formula" },
        { value: "ndjson", name: "JSON, a line a row" },
        { value: "parquet", name: "Parquet" }
      ]}
      bind:value={form.format} />
  {:else if form.target === "side"}
    <div class="space-y-1">
      <Label for="side">Name of the new table</Label><Input
        id="side"
        class="font-mono"
        bind:value={form.side}
        placeholder="the table's own and the time"
        spellcheck="false" />
    </div>
    <p class="text-sm text-gray-600 dark:text-gray-400">
      A new table beside the old one, with columns and key as they were then. Nothing else is touched; drop it
      when you are done.
    </p>
  {:else}
    <div class="space-y-1">
      <Label for="conflicts">Rows whose key is in the table already</Label><Select
        id="conflicts"
        items={[
          { value: "skip", name: "are skipped and counted" },
          { value: "fail", name: "stop the restore before anything is written" },
          { value: "replace", name: "are replaced; what was there is kept in a file" }
        ]}
        bind:value={form.conflicts} />
    </div>
    {#if form.conflicts !== "replace"}<div class="space-y-1">
        <Label for="lasts">They stay</Label><Select
          id="lasts"
          items={[
            { value: "", name: "for good" },
            ...[1, 2, 7, 30].map((n) => ({
              value: `P${n}D`,
              name: `for ${plural(n, "day")}, then go again unless they were changed`
            }))
          ]}
          bind:value={form.lasts}
          placeholder="" />
      </div>{/if}
    <p class="text-sm text-gray-600 dark:text-gray-400">Any other conflict stops the restore.</p>
  {/if}
</fieldset>

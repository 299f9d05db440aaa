<script lang="ts">
  // What a restore would do.
  import { Label, Select } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { count, plural, size } from "../../lib/format";
  import Cold from "../../lib/Cold.svelte";
  import type { RestoreForm } from "./form";

  let { form = $bindable(), preview }: { form: RestoreForm; preview: Schemas["RestorePreview"] } = $props();
</script>

<div
  class="rounded border border-gray-200 px-3 py-2 text-sm dark:border-gray-700"
  role="status"
  data-testid="preview">
  <p>
    <b>{plural(preview.rows, "row")}</b> of {preview.source}.{preview.table}, in
    {plural(preview.segments, "segment")} ({size(preview.bytes)}), go into {preview.into}.
  </p>
  {#if form.target === "table"}<p>
      {preview.untold
        ? "The table has no key, so nobody can tell which of them are there already."
        : `The keys of ${count(preview.conflicts)} of them are in the table already.`}
    </p>{/if}
  {#if preview.stale}<p>
      {plural(preview.stale, "further row")} of which a newer version is archived {preview.stale === 1
        ? "is"
        : "are"} not restored.
    </p>{/if}
  {#if preview.triggers.length}<p>Triggers that fire for each row: {preview.triggers.join(", ")}.</p>{/if}
  {#if preview.approval}<p>Somebody has to approve it before it is carried out.</p>{/if}
</div>
{#if preview.cold}
  <Cold cold={preview.cold} />
  <div class="space-y-1">
    <Label for="priority">Retrieved at</Label><Select
      id="priority"
      items={["low", "normal", "high"].map((p) => ({ value: p, name: `${p} priority` }))}
      bind:value={form.priority}
      placeholder="" />
  </div>
{/if}

<script lang="ts">
  // What an account may do in single sources, besides what it may do in all.
  import { Button, Checkbox, Select } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  let {
    grants = $bindable(),
    sources
  }: { grants: { source: string; role: Schemas["Grant"]["role"]; rows: boolean }[]; sources: string[] } =
    $props();
  const roles = (["viewer", "operator", "approver", "administrator"] as const).map((r) => ({
    value: r,
    name: r
  }));
  let left = $derived(sources.filter((s) => !grants.some((g) => g.source === s)));
</script>

<div class="space-y-2 sm:col-span-2">
  {#each grants as g, i (g.source)}
    <div class="flex items-center gap-3 text-sm">
      <span class="w-40">in {g.source}</span>
      <Select
        size="sm"
        class="w-40"
        aria-label="Role in {g.source}"
        placeholder=""
        items={roles}
        bind:value={g.role} />
      <Checkbox bind:checked={g.rows}>values of rows</Checkbox>
      <Button size="xs" color="alternative" onclick={() => grants.splice(i, 1)}>Not there</Button>
    </div>
  {/each}
  {#if left.length}<Button
      size="xs"
      color="alternative"
      onclick={() => grants.push({ source: left[0]!, role: "operator", rows: false })}
      >More in one source …</Button
    >{/if}
  {#each grants as g, i (g.source)}
    {#if left.length && i === grants.length - 1}<Select
        size="sm"
        class="w-56"
        aria-label="The source of the last line"
        placeholder=""
        items={[g.source, ...left].map((s) => ({ value: s, name: s }))}
        bind:value={g.source} />{/if}
  {/each}
</div>

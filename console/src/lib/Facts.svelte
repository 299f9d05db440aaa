<script lang="ts">
  // Names and values in two or three columns; empty values are left out.
  import type { Snippet } from "svelte";
  let { facts }: { facts: [string, string | number | Snippet | null | undefined][] } = $props();
  let shown = $derived(facts.filter(([, v]) => v !== "" && v !== null && v !== undefined));
</script>

<dl class="grid gap-x-8 gap-y-2 px-4 py-3 text-sm sm:grid-cols-2 xl:grid-cols-3">
  {#each shown as [name, v] (name)}
    <div class="flex min-w-0 justify-between gap-3 border-b border-gray-100 pb-1 dark:border-gray-700/60">
      <dt class="shrink-0 text-gray-500 dark:text-gray-400">{name}</dt>
      <dd class="min-w-0 truncate text-right font-medium" title={typeof v === "string" ? v : undefined}>
        {#if typeof v === "function"}{@render v()}{:else}{v}{/if}
      </dd>
    </div>
  {/each}
</dl>

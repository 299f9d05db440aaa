<script lang="ts">
  import type { Snippet } from "svelte";
  let {
    title = "",
    note = "",
    class: extra = "",
    children
  }: { title?: string; note?: string; class?: string; children: Snippet } = $props();
</script>

<section
  class="mb-4 overflow-hidden rounded-lg border border-gray-200 bg-white dark:border-gray-700 dark:bg-gray-800 {extra}">
  {#if title}
    <div
      class="flex items-baseline justify-between gap-3 border-b border-gray-200 px-4 py-2 dark:border-gray-700">
      <h2 class="text-sm font-semibold">{title}</h2>
      {#if note}<span class="text-xs text-gray-500 dark:text-gray-400">{note}</span>{/if}
    </div>
  {/if}
  {@render children()}
</section>

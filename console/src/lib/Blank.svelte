<script lang="ts">
  // Stands where a list has nothing to show yet, and says what would fill it.
  import type { Snippet } from "svelte";
  let { title, children }: { title: string; children?: Snippet } = $props();
</script>

<div class="px-4 py-10 text-center text-sm text-gray-500 dark:text-gray-400">
  <p class="font-medium text-gray-700 dark:text-gray-200">{title}</p>
  {#if children}<div class="mx-auto mt-1 max-w-xl">{@render children()}</div>{/if}
</div>

<script lang="ts">
  // One step of the way to the first archived row: done, to be done now, or later.
  import type { Snippet } from "svelte";
  let {
    number,
    title,
    state,
    said = "",
    children
  }: {
    number: number;
    title: string;
    state: "done" | "now" | "later";
    said?: string;
    children?: Snippet;
  } = $props();
  const words = { done: "done", now: "to be done now", later: "comes later" };
</script>

<li
  aria-current={state === "now" ? "step" : undefined}
  class="mb-3 overflow-hidden rounded-lg border bg-white dark:bg-gray-800 {state === 'now'
    ? 'border-primary-500'
    : 'border-gray-200 dark:border-gray-700'}">
  <div class="flex items-baseline gap-3 px-4 py-2">
    <span
      aria-hidden="true"
      class="inline-flex h-6 w-6 shrink-0 items-center justify-center rounded-full text-xs font-semibold {state ===
      'later'
        ? 'bg-gray-200 text-gray-600 dark:bg-gray-700 dark:text-gray-300'
        : 'bg-primary-700 text-white'}">{state === "done" ? "✓" : number}</span>
    <h2 class="text-sm font-semibold {state === 'later' ? 'text-gray-600 dark:text-gray-400' : ''}">
      {title}<span class="sr-only">: {words[state]}</span>
    </h2>
    {#if said}<span class="min-w-0 text-sm break-words text-gray-600 dark:text-gray-400">{said}</span>{/if}
  </div>
  {#if children && state !== "later"}<div
      class="border-t border-gray-200 not-has-[*]:hidden dark:border-gray-700">
      {@render children()}
    </div>{/if}
</li>

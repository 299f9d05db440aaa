<script lang="ts">
  let { view = $bindable() }: { view: "form" | "text" } = $props();
  const tabs = [
    ["form", "Form"],
    ["text", "YAML"]
  ] as const;
</script>

<div
  role="tablist"
  aria-label="Form or text"
  class="flex gap-1 border-b border-gray-200 px-3 pt-2 dark:border-gray-700">
  {#each tabs as [id, label] (id)}
    <button
      role="tab"
      aria-selected={view === id}
      class="rounded-t px-3 py-1.5 text-sm {view === id
        ? 'border-b-2 border-primary-500 font-semibold'
        : 'text-gray-600 dark:text-gray-400'}"
      onclick={() => (view = id)}>{label}</button>
  {/each}
</div>

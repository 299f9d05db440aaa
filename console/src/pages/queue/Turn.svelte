<script lang="ts">
  // What can be done to something that works or waits: another turn, a pause, an end.
  import Act from "../../lib/Act.svelte";
  type Does = { sooner: (by: number) => void; pause: () => void; resume: () => void; cancel: () => void };
  let { name, waits, rests, does }: { name: string; waits: boolean; rests: boolean; does: Does } = $props();
</script>

<div class="flex gap-1">
  {#if waits}
    <Act
      right="operate"
      any
      size="xs"
      color="alternative"
      aria-label="{name} sooner"
      onclick={() => does.sooner(10)}>↑</Act>
    <Act
      right="operate"
      any
      size="xs"
      color="alternative"
      aria-label="{name} later"
      onclick={() => does.sooner(-10)}>↓</Act>
  {/if}
  {#if rests}
    <Act right="operate" any size="xs" color="alternative" aria-label="Resume: {name}" onclick={does.resume}
      >Resume</Act>
  {:else}
    <Act right="operate" any size="xs" color="alternative" aria-label="Pause: {name}" onclick={does.pause}
      >Pause</Act>
  {/if}
  <Act right="operate" any size="xs" color="alternative" aria-label="Cancel: {name}" onclick={does.cancel}
    >Cancel</Act>
</div>

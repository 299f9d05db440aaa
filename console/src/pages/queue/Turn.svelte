<script lang="ts">
  // What can be done to something that works or waits: another turn, a pause, an end.
  import { Button } from "../../lib/ui";
  type Does = { sooner: (by: number) => void; pause: () => void; resume: () => void; cancel: () => void };
  let { name, waits, rests, does }: { name: string; waits: boolean; rests: boolean; does: Does } = $props();
</script>

<div class="flex gap-1">
  {#if waits}
    <Button size="xs" color="alternative" aria-label="{name} sooner" onclick={() => does.sooner(10)}
      >↑</Button>
    <Button size="xs" color="alternative" aria-label="{name} later" onclick={() => does.sooner(-10)}
      >↓</Button>
  {/if}
  {#if rests}
    <Button size="xs" color="alternative" aria-label="Resume: {name}" onclick={does.resume}>Resume</Button>
  {:else}
    <Button size="xs" color="alternative" aria-label="Pause: {name}" onclick={does.pause}>Pause</Button>
  {/if}
  <Button size="xs" color="alternative" aria-label="Cancel: {name}" onclick={does.cancel}>Cancel</Button>
</div>

<script lang="ts">
  // Asks for the reason that loosens a locked clause; it is kept.
  import { Button, Input } from "./ui";
  let { reason = $bindable(""), text, save }: { reason: string; text: string; save: () => void } = $props();
</script>

<div class="mb-4 flex gap-2">
  <Input size="sm" aria-label="Reason" placeholder="the reason, which is kept" bind:value={reason} />
  <Button size="sm" disabled={!reason} onclick={save}>{text}</Button>
</div>

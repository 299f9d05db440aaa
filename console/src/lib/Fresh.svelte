<script lang="ts">
  // A page begins anew when its address names another thing, so that nothing of the last one stands on it.
  import type { Component } from "svelte";

  // eslint-disable-next-line @typescript-eslint/no-explicit-any -- pages take whatever their route has
  type Load = () => Promise<{ default: Component<{ params: any }> }>;
  let { load, params }: { load: Load; params: Record<string, string> | null } = $props();
</script>

{#await load() then { default: Page }}
  {#key JSON.stringify(params)}<Page params={params ?? {}} />{/key}
{/await}

<script lang="ts">
  // A page begins anew when its address names another thing, so that nothing of the last one stands on it.
  import type { Component } from "svelte";

  // eslint-disable-next-line @typescript-eslint/no-explicit-any -- pages take whatever their route has
  let { page: Page, params }: { page: Component<{ params: any }>; params: Record<string, string> | null } =
    $props();
</script>

{#key JSON.stringify(params)}<Page params={params ?? {}} />{/key}

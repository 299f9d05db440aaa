<script lang="ts">
  // A warning, in ink that can be read on its ground.
  import type { Snippet } from "svelte";
  import { Alert } from "./ui";
  let { class: extra = "mb-2", children }: { class?: string; children: Snippet } = $props();
</script>

<Alert color="yellow" class="{extra} text-yellow-950!">{@render children()}</Alert>

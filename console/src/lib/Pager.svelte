<script lang="ts">
  // The way through the pages of a list.
  import { Button } from "./ui";
  import type { Pages } from "./loader.svelte";
  let {
    pages,
    next,
    back = "Newer",
    on = "Older"
  }: { pages: Pages; next: string | null | undefined; back?: string; on?: string } = $props();
</script>

{#if !pages.first || next}
  <nav class="flex gap-2" aria-label="pages">
    <Button size="xs" color="alternative" disabled={pages.first} onclick={() => pages.back()}>{back}</Button>
    <Button size="xs" color="alternative" disabled={!next} onclick={() => next && pages.on(next)}
      >{on}</Button>
  </nav>
{/if}

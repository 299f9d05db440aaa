<script lang="ts">
  // A button for something that needs a right: it stands there for those who have it.
  import type { ComponentProps } from "svelte";
  import { Button } from "./ui";
  import { who, type Right } from "./who.svelte";
  // source: where it is about one; any: the right in any source will do
  let {
    right,
    source,
    any = false,
    ...rest
  }: { right: Right; source?: string; any?: boolean } & ComponentProps<typeof Button> = $props();
</script>

{#if any ? who.maySomewhere(right) : who.may(right, source)}<Button {...rest} />{/if}

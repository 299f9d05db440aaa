<script lang="ts">
  import { local, utc } from "./format";
  let { at, none = "–" }: { at: string | null | undefined; none?: string } = $props();
</script>

{#if at}<time datetime={at} title={utc(at)} class="whitespace-nowrap">{local(at)}</time>{:else}{none}{/if}

<script lang="ts">
  import { local, utc } from "./format";
  // day: show the day alone; the whole instant is in the title, in UTC.
  let {
    at,
    none = "–",
    day = false
  }: { at: string | null | undefined; none?: string; day?: boolean } = $props();
</script>

{#if at}<time datetime={at} title={utc(at)} class="whitespace-nowrap"
    >{day ? local(at).slice(0, 10) : local(at)}</time
  >{:else}{none}{/if}

<script lang="ts">
  // How far something is, as a bar that assistive technology reads too.
  let {
    percent,
    label,
    color = "bg-primary-500"
  }: { percent: number; label: string; color?: string } = $props();
</script>

<div
  class="h-2 w-full overflow-hidden rounded-full bg-gray-200 dark:bg-gray-700"
  role="progressbar"
  aria-label={label}
  aria-valuemin="0"
  aria-valuemax="100"
  aria-valuenow={Math.round(percent)}>
  <div class="h-full rounded-full {color} transition-[width]" style:width="{percent}%"></div>
</div>

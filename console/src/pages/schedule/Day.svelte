<script lang="ts">
  // One day of the calendar, with its firings.
  import State from "../../lib/State.svelte";
  import { local, utc } from "../../lib/format";
  import type { Mark } from "./calendar";
  let { day, marks, most, faint }: { day: Date; marks: Mark[]; most: number; faint: boolean } = $props();
  const name = new Intl.DateTimeFormat("en", { weekday: "short", day: "numeric", month: "short" });
  let today = $derived(new Date().toDateString() === day.toDateString());
  let shown = $derived(marks.slice(0, most));
</script>

<div
  role="listitem"
  aria-label={`${name.format(day)}, ${marks.length} firings`}
  class="min-h-24 min-w-0 border-e border-b border-gray-100 px-2 py-1.5 text-xs dark:border-gray-700/60 {faint
    ? 'bg-gray-50 dark:bg-gray-900/40'
    : ''}">
  <div
    class="mb-1 {today
      ? 'font-semibold text-primary-800 dark:text-primary-300'
      : 'text-gray-500 dark:text-gray-400'}">
    {today ? "Today, " : ""}{name.format(day).replace(/^\w+, /, today ? "" : "$&")}
  </div>
  <ul class="space-y-1">
    {#each shown as m (m.at + m.rule)}
      <li class="flex min-w-0 flex-wrap items-center gap-x-1.5" title={`${utc(m.at)} ${m.note}`}>
        <time datetime={m.at} class="text-gray-500 dark:text-gray-400">{local(m.at).slice(11, 16)}</time>
        <a class="text-link min-w-0 truncate" href={m.href}>{m.rule}</a>
        <State state={m.state} />
        {#if m.note}<span class="sr-only">{m.note}</span>{/if}
      </li>
    {/each}
  </ul>
  {#if marks.length > shown.length}<p class="mt-1 text-gray-500 dark:text-gray-400">
      and {marks.length - shown.length} more
    </p>{/if}
</div>

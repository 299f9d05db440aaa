<script lang="ts">
  // The last day at a glance: a line for each source, a bar for each run from its start to its end. Runs that follow
  // each other closely share one.
  import { local, plural } from "../../lib/format";
  import type { Schemas } from "../../api/client";
  let { spans, now }: { spans: Schemas["RunSpan"][]; now: string } = $props();
  const day = 24 * 3_600_000;
  let end = $derived(new Date(now).getTime());
  let begin = $derived(end - day);
  type Bar = { span: Schemas["RunSpan"]; left: number; width: number; what: string };
  let lines = $derived.by(() => {
    const out: Record<string, Bar[]> = {};
    for (const span of spans) {
      const from = Math.max(new Date(span.from).getTime(), begin);
      const to = span.to ? new Date(span.to).getTime() : end;
      if (to < begin) continue;
      (out[span.source] ??= []).push({
        span,
        left: (100 * (from - begin)) / day,
        width: Math.max((100 * (to - from)) / day, 0.6),
        what: `${span.rule || plural(span.runs, "run")}, ${span.state}, began ${local(span.from)}`
      });
    }
    return Object.entries(out).sort(([a], [b]) => a.localeCompare(b));
  });
  const colors: Record<string, string> = {
    done: "bg-green-500",
    failed: "bg-red-500",
    cancelled: "bg-gray-400",
    running: "bg-blue-500",
    resting: "bg-indigo-400",
    paused: "bg-yellow-400"
  };
  let hours = $derived(
    [0, 6, 12, 18, 24].map((h) => ({ h, at: new Date(begin + h * 3_600_000).toISOString() }))
  );
</script>

{#if lines.length}
  <div class="px-4 py-3 text-xs" role="group" aria-label="Runs of the last 24 hours">
    {#each lines as [source, bars] (source)}
      <div class="mb-1.5 flex items-center gap-3">
        <span class="w-28 shrink-0 truncate">{source}</span>
        <div class="relative h-4 min-w-0 flex-1 rounded bg-gray-100 dark:bg-gray-700">
          {#each bars as b (b.span.run)}
            <a
              href={b.span.rule ? `#/runs/${b.span.run}` : "#/runs"}
              class="absolute inset-y-0 rounded-sm {colors[b.span.state] ?? 'bg-yellow-400'}"
              style="left: {b.left}%; width: {b.width}%"
              title={b.what}
              aria-label={b.what}></a>
          {/each}
        </div>
      </div>
    {/each}
    <div class="ms-31 flex justify-between text-gray-500 dark:text-gray-400">
      {#each hours as x (x.h)}<time datetime={x.at}>{local(x.at).slice(11, 16)}</time>{/each}
    </div>
    <p class="mt-1 text-gray-500 dark:text-gray-400">
      green: done · red: failed · blue: running · violet: resting · yellow: paused or copied · gray: cancelled
    </p>
  </div>
{:else}
  <p class="px-4 py-3 text-sm text-gray-500 dark:text-gray-400">No run in the last 24 hours.</p>
{/if}

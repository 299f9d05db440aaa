<script lang="ts">
  // The cutoffs of a rule on a time line, from the oldest row to today: what lies left of a cutoff is due.
  import type { Schemas } from "../../api/client";
  let { plan }: { plan: Schemas["Plan"] } = $props();
  const day = (at: number) => new Date(at).toISOString().slice(0, 10);
  let now = $derived(Date.parse(plan.made_at));
  let cutoffs = $derived(plan.detail.clauses.flatMap((c) => (c.cutoff ? [Date.parse(c.cutoff)] : [])));
  let oldest = $derived.by(() => {
    const known = Date.parse((plan.counts.oldest ?? "").replace(" ", "T"));
    const year = 365 * 86_400_000;
    return Math.min(
      Number.isNaN(known) ? now - year : known,
      ...cutoffs.map((c) => c - year / 12),
      now - year / 4
    );
  });
  const width = 600,
    left = 8,
    line = 26;
  const x = (at: number) => left + ((width - 2 * left) * (at - oldest)) / (now - oldest);
</script>

<svg
  viewBox="0 0 {width} {plan.detail.clauses.length * line + 20}"
  class="w-full max-w-2xl px-4 pt-2 text-[11px]"
  role="img"
  aria-label={plan.detail.clauses
    .map(
      (c) => `clause ${c.label}: ${c.cutoff ? `rows before ${c.cutoff.slice(0, 10)} are due` : "never due"}`
    )
    .join("; ")}>
  {#each plan.detail.clauses as c, i (c.clause)}
    {@const y = i * line + 4}
    {@const cut = c.cutoff ? Math.max(x(Date.parse(c.cutoff)), left) : left}
    <rect
      x={left}
      {y}
      width={width - 2 * left}
      height={line - 10}
      rx="2"
      class="fill-gray-200 dark:fill-gray-700" />
    {#if c.cutoff}<rect
        x={left}
        {y}
        width={cut - left}
        height={line - 10}
        rx="2"
        class="fill-primary-400 dark:fill-primary-700" />
      <line
        x1={cut}
        x2={cut}
        y1={y - 3}
        y2={y + line - 7}
        class="stroke-red-700 dark:stroke-red-300"
        stroke-width="1.5" />{/if}
    <text
      x={cut > width / 2 ? cut - 4 : cut + 4}
      y={y + 12}
      text-anchor={cut > width / 2 ? "end" : "start"}
      class="fill-gray-900 dark:fill-gray-100"
      >{c.clause + 1}: {c.cutoff ? `due before ${c.cutoff.slice(0, 10)}` : "never due"}</text>
  {/each}
  <text x={left} y={plan.detail.clauses.length * line + 14} class="fill-gray-500 dark:fill-gray-400"
    >{day(oldest)}</text>
  <text
    x={width - left}
    y={plan.detail.clauses.length * line + 14}
    text-anchor="end"
    class="fill-gray-500 dark:fill-gray-400">today, {day(now)}</text>
</svg>

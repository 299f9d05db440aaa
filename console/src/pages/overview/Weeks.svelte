<script lang="ts">
  // What left the tables in the last weeks: rows archived and purged as bars, the bytes that they took there as a line.
  import { Chart, colours } from "../../lib/chart";
  import { api, take } from "../../api/client";
  import { count, size } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader } from "../../lib/loader.svelte";
  import Panel from "../../lib/Panel.svelte";
  import { inWeeks, monday } from "./weeks";
  let { now }: { now: string } = $props();
  const shown = 12;
  const days = new Loader(() =>
    take(api.GET("/history", { params: { query: { from: monday(now.slice(0, 10), 1 - shown) } } }))
  );
  $effect(() => whenChanged(() => days.load()));
  let canvas = $state<HTMLCanvasElement>();

  let weeks = $derived(inWeeks(days.data?.days ?? [], now, shown));
  let some = $derived(weeks.some((w) => w.archived + w.purged > 0));
  let spoken = $derived(
    weeks
      .filter((w) => w.archived + w.purged > 0)
      .map(
        (w) => `week of ${w.week}: ${count(w.archived)} archived, ${count(w.purged)} purged, ${size(w.freed)}`
      )
      .join("; ")
  );
  $effect(() => {
    if (!canvas) return;
    const { grid, ink, named } = colours();
    const chart = new Chart(canvas, {
      data: {
        labels: weeks.map((w) => w.week.slice(5)),
        datasets: [
          {
            type: "line",
            label: "bytes freed",
            data: weeks.map((w) => w.freed),
            yAxisID: "bytes",
            borderColor: ink,
            pointRadius: 2,
            borderWidth: 1.5
          },
          {
            type: "bar",
            label: "rows archived",
            data: weeks.map((w) => w.archived),
            backgroundColor: named("--color-primary-500")
          },
          {
            type: "bar",
            label: "rows purged",
            data: weeks.map((w) => w.purged),
            backgroundColor: named("--color-primary-200")
          }
        ]
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        interaction: { mode: "index", intersect: false },
        plugins: {
          legend: { align: "end", labels: { color: ink, boxWidth: 12 } },
          tooltip: {
            callbacks: {
              label: (x) =>
                `${x.dataset.label}: ${x.dataset.yAxisID === "bytes" ? size(x.parsed.y ?? 0) : count(x.parsed.y ?? 0)}`
            }
          }
        },
        scales: {
          x: { stacked: true, ticks: { color: ink }, grid: { display: false } },
          y: {
            stacked: true,
            beginAtZero: true,
            ticks: { color: ink, maxTicksLimit: 5, callback: (v) => count(Number(v)) },
            grid: { color: grid }
          },
          bytes: {
            position: "right",
            beginAtZero: true,
            ticks: { color: ink, maxTicksLimit: 5, callback: (v) => size(Number(v)) },
            grid: { display: false }
          }
        }
      }
    });
    return () => chart.destroy();
  });
</script>

{#if some}
  <Panel title="Last {shown} weeks" note="what left the tables, by week (from Monday, in UTC)">
    <div class="h-48 px-4 py-2" role="img" aria-label="What left the tables, week by week. {spoken}">
      <canvas bind:this={canvas}></canvas>
    </div>
  </Panel>
{/if}

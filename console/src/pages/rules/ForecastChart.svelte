<script lang="ts">
  // What runs in the coming months would take: rows that are there today, and those still to be written.
  import { Chart, colours } from "../../lib/chart";
  import type { Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  let { forecast }: { forecast: Schemas["Forecast"][] } = $props();
  let canvas = $state<HTMLCanvasElement>();
  $effect(() => {
    if (!canvas) return;
    const { grid, ink, named } = colours();
    const chart = new Chart(canvas, {
      type: "bar",
      data: {
        labels: forecast.map((f, i) => (i === 0 ? "now" : f.at.slice(0, 7))),
        datasets: [
          {
            label: "rows there today",
            data: forecast.map((f) => f.rows),
            backgroundColor: named("--color-primary-500")
          },
          {
            label: "still to be written (expected)",
            data: forecast.map((f) => f.growth),
            backgroundColor: named("--color-primary-200")
          }
        ]
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        interaction: { mode: "index", intersect: false },
        plugins: { legend: { align: "end", labels: { color: ink, boxWidth: 12 } } },
        scales: {
          x: { stacked: true, ticks: { color: ink }, grid: { display: false } },
          y: {
            stacked: true,
            beginAtZero: true,
            ticks: { color: ink, maxTicksLimit: 5 },
            grid: { color: grid }
          }
        }
      }
    });
    return () => chart.destroy();
  });
  let spoken = $derived(
    forecast.map((f, i) => `${i === 0 ? "now" : f.at.slice(0, 7)}: ${count(f.rows + f.growth)}`).join(", ")
  );
</script>

<div class="h-44 px-4 py-2" role="img" aria-label="Rows that runs would take, month by month. {spoken}">
  <canvas bind:this={canvas}></canvas>
</div>

<script lang="ts">
  // What each batch did, the oldest on the left: its rows, how long it took and rested, and its rows a second.
  import { Chart, colours } from "../../lib/chart";
  import type { Schemas } from "../../api/client";
  let { batches }: { batches: Schemas["Batch"][] } = $props();
  let canvas = $state<HTMLCanvasElement>();
  let rates = $state<HTMLCanvasElement>();
  const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });

  $effect(() => {
    if (!canvas || !rates) return;
    const list = [...batches].reverse();
    const { grid, ink, named } = colours();
    const labels = list.map((b) => `${clock.format(new Date(b.at))}, batch ${b.segment}/${b.number}`);
    const shown = (i: number) => labels[i]?.slice(0, 8);
    const primary = named("--color-primary-500");
    const rate = new Chart(rates, {
      data: {
        labels,
        datasets: [
          {
            type: "line",
            label: "rows a second, rests included",
            data: list.map((b) => Math.round(b.deleted / Math.max((b.micros + b.rest_micros) / 1e6, 1e-6))),
            borderColor: primary,
            borderWidth: 1.5,
            pointRadius: 0
          }
        ]
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        interaction: { mode: "index", intersect: false },
        plugins: { legend: { align: "end", labels: { color: ink, boxWidth: 12 } } },
        scales: {
          x: { ticks: { display: false }, grid: { display: false } },
          y: { beginAtZero: true, ticks: { color: ink, maxTicksLimit: 4 }, grid: { color: grid } }
        }
      }
    });
    const chart = new Chart(canvas, {
      data: {
        labels,
        datasets: [
          {
            type: "line",
            label: "took, ms",
            data: list.map((b) => b.micros / 1000),
            yAxisID: "y1",
            borderColor: ink,
            borderWidth: 1.5,
            pointRadius: 0
          },
          {
            type: "line",
            label: "rested, ms",
            data: list.map((b) => b.rest_micros / 1000),
            yAxisID: "y1",
            borderColor: "#2563eb",
            borderDash: [4, 3],
            borderWidth: 1.5,
            pointRadius: 0
          },
          {
            type: "bar",
            label: "rows deleted",
            data: list.map((b) => b.deleted),
            yAxisID: "y",
            backgroundColor: named("--color-primary-400")
          }
        ]
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        interaction: { mode: "index", intersect: false },
        plugins: { legend: { align: "end", labels: { color: ink, boxWidth: 12 } } },
        scales: {
          x: {
            ticks: { color: ink, maxTicksLimit: 12, maxRotation: 0, callback: (_, i) => shown(i) },
            grid: { display: false }
          },
          y: { beginAtZero: true, ticks: { color: ink, maxTicksLimit: 5 }, grid: { color: grid } },
          y1: {
            beginAtZero: true,
            position: "right",
            ticks: { color: ink, maxTicksLimit: 5 },
            grid: { display: false }
          }
        }
      }
    });
    return () => {
      rate.destroy();
      chart.destroy();
    };
  });
</script>

<div
  class="h-28 px-4 pt-2"
  role="img"
  aria-label="Rows a second, batch by batch; the table below has the numbers">
  <canvas bind:this={rates}></canvas>
</div>
<div
  class="h-44 px-4 pt-2"
  role="img"
  aria-label="Rows deleted, time taken and rest, batch by batch; the table below has the numbers">
  <canvas bind:this={canvas}></canvas>
</div>

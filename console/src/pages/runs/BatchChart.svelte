<script lang="ts">
  // How long each batch took and how many rows it deleted, the oldest on the left.
  import { BarController, BarElement, CategoryScale, Chart, Legend, LinearScale, LineController, LineElement, PointElement, Tooltip } from "chart.js";
  import type { Schemas } from "../../api/client";
  let { batches }: { batches: Schemas["Batch"][] } = $props();
  let canvas = $state<HTMLCanvasElement>();
  Chart.register(BarController, BarElement, CategoryScale, Legend, LinearScale, LineController, LineElement, PointElement, Tooltip);

  $effect(() => {
    if (!canvas) return;
    const list = [...batches].reverse();
    const style = getComputedStyle(document.documentElement);
    const dark = document.documentElement.classList.contains("dark");
    const grid = dark ? "#374151" : "#e5e7eb", ink = dark ? "#9ca3af" : "#6b7280";
    const chart = new Chart(canvas, {
      data: {
        labels: list.map((b) => `${b.segment}/${b.number}`),
        datasets: [
          { type: "line", label: "took, ms", data: list.map((b) => b.micros / 1000), yAxisID: "y1", borderColor: ink, borderWidth: 1.5, pointRadius: 0 },
          { type: "bar", label: "rows deleted", data: list.map((b) => b.deleted), yAxisID: "y", backgroundColor: style.getPropertyValue("--color-primary-400") },
        ],
      },
      options: {
        animation: false, maintainAspectRatio: false, interaction: { mode: "index", intersect: false },
        plugins: { legend: { align: "end", labels: { color: ink, boxWidth: 12 } } },
        scales: {
          x: { ticks: { color: ink, maxTicksLimit: 12 }, grid: { display: false } },
          y: { beginAtZero: true, ticks: { color: ink, maxTicksLimit: 5 }, grid: { color: grid } },
          y1: { beginAtZero: true, position: "right", ticks: { color: ink, maxTicksLimit: 5 }, grid: { display: false } },
        },
      },
    });
    return () => chart.destroy();
  });
</script>

<div class="h-44 px-4 pt-2" role="img" aria-label="Rows deleted and time taken, batch by batch; the table below has the numbers"><canvas bind:this={canvas}></canvas></div>

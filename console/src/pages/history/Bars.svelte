<script lang="ts" module>
  export type Series = { label: string; values: (number | null)[]; line?: boolean };
</script>

<script lang="ts">
  // Stacked bars, or lines, over periods; what they show is said in words for those who do not see it.
  import { Chart, colours } from "../../lib/chart";
  let {
    labels,
    series,
    unit,
    about,
    stacked = true
  }: {
    labels: string[];
    series: Series[];
    unit: (n: number) => string;
    about: string;
    stacked?: boolean;
  } = $props();
  let canvas = $state<HTMLCanvasElement>();
  const shades = ["#d97706", "#fcd34d", "#0d9488", "#6366f1", "#db2777", "#65a30d", "#0891b2", "#78716c"];
  let spoken = $derived(
    labels
      .map((label, i) => {
        const parts = series.filter((s) => s.values[i]).map((s) => `${s.label} ${unit(s.values[i] ?? 0)}`);
        return parts.length ? `${label}: ${parts.join(", ")}` : "";
      })
      .filter(Boolean)
      .join("; ")
  );
  $effect(() => {
    if (!canvas) return;
    const { grid, ink } = colours();
    const chart = new Chart(canvas, {
      data: {
        labels: [...labels],
        datasets: series.map((s, i) => ({
          type: s.line ? ("line" as const) : ("bar" as const),
          label: s.label,
          data: [...s.values],
          backgroundColor: shades[i % shades.length],
          borderColor: shades[i % shades.length],
          borderWidth: s.line ? 2 : 0,
          pointRadius: s.line ? 2 : 0,
          spanGaps: true
        }))
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        interaction: { mode: "index", intersect: false },
        plugins: {
          legend: { align: "end", labels: { color: ink, boxWidth: 12 } },
          tooltip: { callbacks: { label: (x) => `${x.dataset.label}: ${unit(x.parsed.y ?? 0)}` } }
        },
        scales: {
          x: { stacked, ticks: { color: ink, maxRotation: 0 }, grid: { display: false } },
          y: {
            stacked: stacked && !series[0]?.line,
            beginAtZero: true,
            ticks: { color: ink, maxTicksLimit: 5, callback: (v) => unit(Number(v)) },
            grid: { color: grid }
          }
        }
      }
    });
    return () => chart.destroy();
  });
</script>

<div class="h-44 px-4 py-2" role="img" aria-label="{about}. {spoken}">
  <canvas bind:this={canvas}></canvas>
</div>

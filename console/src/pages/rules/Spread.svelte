<script lang="ts">
  // The rows of a table over their age, by the clause that governs them, with the cutoffs drawn in.
  import { Chart, colours } from "../../lib/chart";
  import type { Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  let { plan }: { plan: Schemas["Plan"] } = $props();
  let canvas = $state<HTMLCanvasElement>();
  const shades = [
    "--color-primary-400",
    "--color-primary-700",
    "--color-primary-200",
    "--color-primary-900",
    "--color-primary-300",
    "--color-primary-600"
  ];

  $effect(() => {
    if (!canvas) return;
    const { spread } = plan.counts,
      clauses = plan.detail.clauses;
    const { dark, grid, ink, named } = colours();
    const first = Date.parse(spread[0].from),
      last = Date.parse(spread[spread.length - 1].to);
    const cutoffs = clauses.flatMap((c) =>
      c.cutoff ? [{ number: c.clause + 1, at: Date.parse(c.cutoff) }] : []
    );
    const lines = {
      id: "cutoffs",
      afterDatasetsDraw(chart: Chart) {
        const { ctx, chartArea: a } = chart;
        ctx.save();
        ctx.font = "11px sans-serif";
        ctx.fillStyle = ctx.strokeStyle = dark ? "#fca5a5" : "#b91c1c";
        cutoffs.forEach(({ number, at }, i) => {
          const x = a.left + (a.width * (at - first)) / (last - first);
          if (x < a.left || x > a.right) return;
          ctx.setLineDash([4, 3]);
          ctx.beginPath();
          ctx.moveTo(x, a.top);
          ctx.lineTo(x, a.bottom);
          ctx.stroke();
          ctx.textAlign = x > a.right - 90 ? "right" : "left";
          ctx.fillText(
            ` ${number}: cutoff ${new Date(at).toISOString().slice(0, 10)} `,
            x,
            a.top + 10 + 13 * (i % 4)
          );
        });
        ctx.restore();
      }
    };
    const datasets = clauses.map((c, i) => ({
      label: c.label.length > 44 ? c.label.slice(0, 44) + "…" : c.label,
      data: spread.map((b) => b.clauses[i]),
      backgroundColor: named(shades[i % shades.length])
    }));
    if (plan.counts.uncovered > 0)
      datasets.push({
        label: "no clause",
        data: spread.map((b) => b.clauses[clauses.length]),
        backgroundColor: ink
      });
    const chart = new Chart(canvas, {
      type: "bar",
      data: { labels: spread.map((b) => b.from.slice(0, 10)), datasets },
      options: {
        animation: false,
        maintainAspectRatio: false,
        interaction: { mode: "index", intersect: false },
        datasets: { bar: { categoryPercentage: 1, barPercentage: 0.9 } },
        plugins: { legend: { align: "start", labels: { color: ink, boxWidth: 10, font: { size: 11 } } } },
        scales: {
          x: {
            stacked: true,
            ticks: { color: ink, maxTicksLimit: 8, maxRotation: 0 },
            grid: { display: false }
          },
          y: {
            stacked: true,
            beginAtZero: true,
            grace: "20%",
            ticks: { color: ink, maxTicksLimit: 4 },
            grid: { color: grid }
          }
        }
      },
      plugins: [lines]
    });
    return () => chart.destroy();
  });
  let spoken = $derived(
    plan.detail.clauses
      .map(
        (c, i) =>
          `${c.label}: ${count(plan.counts.clauses[i]?.rows ?? 0)} rows, cutoff ${c.cutoff?.slice(0, 10) ?? "never"}`
      )
      .join("; ")
  );
</script>

{#if plan.counts.spread.length > 1}
  <div
    class="h-52 px-4 pt-2"
    role="img"
    aria-label="Rows over their age, from the oldest to the newest. {spoken}">
    <canvas bind:this={canvas}></canvas>
  </div>
{/if}

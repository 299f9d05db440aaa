<script lang="ts">
  // How a run goes, moment after moment: its rows a second and what others do; what they feel, beside the bound; and
  // why its speed changed.
  import { Chart, colours } from "../../lib/chart";
  import { api, take, type Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  import { Loader } from "../../lib/loader.svelte";
  import Panel from "../../lib/Panel.svelte";
  import When from "../../lib/When.svelte";
  let { run, going }: { run: string; going: boolean } = $props();

  const course = new Loader(() => take(api.GET("/runs/{run}/course", { params: { path: { run } } })));
  $effect(() => {
    course.load();
    if (!going) return;
    const timer = setInterval(() => course.load(), 2000);
    return () => clearInterval(timer);
  });

  let speeds = $state<HTMLCanvasElement>();
  let feelings = $state<HTMLCanvasElement>();
  const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
  type Moment = Schemas["CourseMoment"];
  const rate = (m: Moment) => Math.round(m.rows / Math.max(m.secs, 1e-3));
  const bounded = (m: Moment) => (m.alone_millis ? m.alone_millis * (1 + (m.bound ?? 0)) : null);
  let points = $derived(course.data?.points ?? []);
  const ended = (m: Moment) => Date.parse(m.at);
  // Each moment at its time; where the run stood still in between, the line breaks.
  const along = (of: (m: Moment) => number | null) =>
    points.flatMap((m, i) => {
      const here = { x: ended(m), y: of(m) };
      const begun = here.x - 1000 * m.secs;
      const broken = i > 0 && begun - ended(points[i - 1]) > 1000 * Math.max(m.secs, 2);
      return broken ? [{ x: begun, y: null }, here] : [here];
    });
  let felt = $derived(points.some((m) => m.alone_millis));
  let told = $derived(points.some((m) => m.rate != null));

  $effect(() => {
    if (!speeds || points.length < 2) return;
    const { grid, ink, named } = colours();
    const line = (label: string, of: (m: Moment) => number | null, color: string, more = {}) => ({
      type: "line" as const,
      label,
      data: along(of),
      borderColor: color,
      borderWidth: 1.5,
      pointRadius: 0,
      ...more
    });
    const drawn = (canvas: HTMLCanvasElement, datasets: ReturnType<typeof line>[], right?: string) =>
      new Chart(canvas, {
        data: { datasets },
        options: {
          animation: false,
          maintainAspectRatio: false,
          interaction: { mode: "index", intersect: false },
          plugins: {
            legend: { align: "end", labels: { color: ink, boxWidth: 12 } },
            tooltip: { callbacks: { title: ([at]) => clock.format(at?.parsed.x ?? 0) } }
          },
          scales: {
            x: {
              type: "linear" as const,
              min: ended(points[0]) - 1000 * points[0].secs,
              max: ended(points[points.length - 1]),
              ticks: {
                color: ink,
                maxTicksLimit: 8,
                maxRotation: 0,
                callback: (at: number | string) => clock.format(Number(at))
              },
              grid: { display: false }
            },
            y: { beginAtZero: true, ticks: { color: ink, maxTicksLimit: 5 }, grid: { color: grid } },
            ...(right && {
              y1: {
                position: "right" as const,
                beginAtZero: true,
                ticks: { color: ink, maxTicksLimit: 5 },
                grid: { display: false }
              }
            })
          }
        }
      });
    const others = told
      ? line("what others end a second (right)", (m) => m.rate ?? null, ink, {
          borderDash: [4, 3],
          yAxisID: "y1"
        })
      : line("sessions of others at work (right)", (m) => m.busy, ink, { borderDash: [4, 3], yAxisID: "y1" });
    const charts = [drawn(speeds, [line("rows a second", rate, named("--color-primary-500")), others], "y1")];
    if (feelings && felt)
      charts.push(
        drawn(feelings, [
          line("a look-up while we rest, p99 in ms", (m) => m.alone_millis || null, ink),
          line("while we work", (m) => m.beside_millis || null, named("--color-primary-500")),
          line("the bound", bounded, "#dc2626", { borderDash: [4, 3] })
        ])
      );
    return () => charts.forEach((c) => c.destroy());
  });

  let spoken = $derived.by(() => {
    const rates = points.map(rate);
    return rates.length
      ? `from ${count(Math.min(...rates))} to ${count(Math.max(...rates))} rows a second, at last ` +
          `${count(rates[rates.length - 1])}`
      : "";
  });
  let turns = $derived([...(course.data?.turns ?? [])].reverse().slice(0, 12));
</script>

{#if points.length > 1 || turns.length > 1}
  <Panel title="Speed" note="what the run took, what others did and felt, and why it changed its speed">
    {#if points.length > 1}
      <div class="h-48 px-4 pt-2" role="img" aria-label="The speed of the run: {spoken}">
        <canvas bind:this={speeds}></canvas>
      </div>
      {#if felt}
        <div
          class="h-40 px-4 pt-2"
          role="img"
          aria-label="What others feel: the p99 of a look-up while the run rests and while it works, and the bound">
          <canvas bind:this={feelings}></canvas>
        </div>
      {/if}
    {/if}
    <ol class="space-y-1 px-4 py-3 text-sm" aria-label="Changes of speed, the newest first">
      {#each turns as turn (turn.at + turn.why)}
        <li class="flex gap-3">
          <span class="shrink-0 text-gray-500 dark:text-gray-400"><When at={turn.at} /></span><span
            >{turn.why}</span>
        </li>
      {/each}
    </ol>
  </Panel>
{/if}

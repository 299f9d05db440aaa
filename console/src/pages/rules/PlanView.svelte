<script lang="ts">
  // A plan in numbers and as a picture: which part of the table goes, where the cut lies, what stays for which reason.
  import { api, take, type Schemas } from "../../api/client";
  import { Loader } from "../../lib/loader.svelte";
  import { age, count, share, size, span } from "../../lib/format";
  import Act from "../../lib/Act.svelte";
  import ClauseTable from "./ClauseTable.svelte";
  import PartitionTable from "./PartitionTable.svelte";
  import RelatedTable from "./RelatedTable.svelte";
  import Spread from "./Spread.svelte";
  import Timeline from "./Timeline.svelte";
  import Facts from "../../lib/Facts.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import Warning from "../../lib/Warning.svelte";
  let {
    plan,
    current,
    run,
    busy,
    start,
    countThem
  }: {
    plan: Schemas["Plan"];
    current: number | undefined;
    run?: Schemas["RunView"] | null;
    busy: boolean;
    start: (empty?: boolean) => void;
    countThem: () => void;
  } = $props();
  let carriedOut = $derived(run?.plan === plan.id ? run : undefined);
  let s = $derived(plan.counts);
  let percent = $derived(share(s.due, Math.max(s.total, s.due)));
  let stale = $derived(current !== undefined && current !== plan.revision);
  const some = (n: number, what: string) => (n > 0 ? `${count(n)} ${what}` : n < 0 ? "not counted" : "");
  const narrowed = (n: Schemas["Narrow"]) =>
    [
      n.before && `before ${n.before}`,
      n.where && `where ${n.where}`,
      n.keys && `keys ${n.keys}`,
      n.limit && `at most ${count(n.limit)} rows`
    ]
      .filter(Boolean)
      .join("; ");
  let d = $derived(plan.detail);
  // Read anew when somebody looks.
  const sample = new Loader(() =>
    take(api.GET("/plans/{plan}/sample", { params: { path: { plan: plan.id } } }))
  );
  function look(open: boolean) {
    sample.data = undefined;
    if (open) sample.load();
  }
  let expected = $derived(
    d.expect.seconds === null ? "unknown before the first run" : span(d.expect.seconds)
  );
</script>

<div class="px-4 pt-3">
  <div class="flex flex-wrap items-baseline gap-x-3">
    <span class="text-2xl font-semibold" data-testid="due">{count(s.due)}</span>
    <span class="text-sm text-gray-600 dark:text-gray-400"
      >of {s.counted ? "" : "about "}{count(s.total)} rows are due, about {size(s.bytes)} ({s.counted
        ? "counted"
        : "the database's estimate"})</span>
    {#if !s.counted}<Act
        right="operate"
        source={plan.source}
        size="xs"
        color="alternative"
        disabled={busy}
        onclick={countThem}>Count them</Act
      >{/if}
    {#if carriedOut}<a class="text-link ms-auto text-sm" href="#/runs/{carriedOut.id}"
        >carried out by this run ({carriedOut.state})</a>
    {:else}<Act
        right="operate"
        source={plan.source}
        size="sm"
        class="ms-auto"
        disabled={busy || stale || s.due === 0}
        onclick={() => start()}>Start the run</Act
      >{/if}
  </div>
  <div
    class="mt-3 flex h-4 overflow-hidden rounded bg-gray-200 dark:bg-gray-700"
    role="img"
    aria-label="{percent.toFixed(0)} percent of the rows are due">
    <div class="bg-primary-500" style:width="{percent}%"></div>
  </div>
  <div class="mt-1 flex justify-between text-xs text-gray-500 dark:text-gray-400">
    <span>{age(s.oldest ?? "")}</span><span
      >last that goes {age(s.last_going ?? "")}{#if d.clauses.length < 2}&nbsp;· first that stays {age(
          s.first_stays ?? ""
        )}{/if}</span>
  </div>
</div>
{#if d.clauses.length && s.spread.length < 2}<Timeline {plan} />{/if}
<Spread {plan} />
{#if d.clauses.length}<ClauseTable {plan} />{/if}
{#if d.related?.length}<RelatedTable {plan} />{/if}
{#if d.partitions?.length}<PartitionTable detail={d} />{/if}
{#if d.emptying && !carriedOut}
  <details class="px-4 py-2 text-sm">
    <summary class="cursor-pointer font-medium"
      >{d.emptying.offered
        ? "All rows can be removed at once, rather than in batches"
        : "The rows go in batches, not at once"}</summary>
    {#if d.emptying.offered}
      <ul class="my-2 list-disc ps-5">
        {#each d.emptying.effects as e (e)}<li>{e}</li>{/each}
      </ul>
      <Act
        right="operate"
        source={plan.source}
        size="xs"
        color="red"
        disabled={busy || stale || s.due === 0}
        onclick={() => start(true)}>Start the run and empty the table at once</Act>
    {:else}<p class="mt-1">{d.emptying.why}</p>{/if}
  </details>
{/if}
{#snippet cutoff()}<When at={plan.cutoff} />{/snippet}
{#snippet made()}<When at={plan.made_at} />{/snippet}
<Facts
  facts={[
    ["Latest cutoff", cutoff],
    ["Made", made],
    ["Note", d.note],
    ["Narrowed to", narrowed(d.narrow)],
    ["Takes", expected],
    ["Archive size", d.expect.archive_bytes === null ? "" : `about ${size(d.expect.archive_bytes)}`],
    ["Log volume", d.expect.log_bytes === null ? "" : `about ${size(d.expect.log_bytes)}`],
    ["Batches", `about ${count(plan.batches)}`],
    [
      "Segments",
      plan.segments
        ? `about ${count(plan.segments)}`
        : d.clauses.some((c) => c.then !== "purge")
          ? "none"
          : "none: purge"
    ],
    ["Held", some(s.held, "aged rows under a hold")],
    ["Uncovered", some(s.uncovered, "rows")],
    ["By collation", some(s.collation, "rows judged otherwise")],
    ["Never due", some(s.ageless, "rows without an instant as age")],
    ["In the future", some(s.future, "rows dated a day ahead or more")],
    ["Restored", some(s.restored, "aged rows left alone")],
    ["Referenced", some(s.referenced, "aged rows that other tables refer to")]
  ]} />
<div class="px-4 pb-3">
  {#if stale}<Warning class="mb-2"
      >The rule has changed since; make a new plan before you start a run.</Warning
    >{/if}
  {#each plan.warnings as w (w)}<Warning class="mb-2">{w}</Warning>{/each}
  {#if s.due !== 0}
    {#key plan.id}<details class="mb-2 text-sm" ontoggle={(e) => look(e.currentTarget.open)}>
        <summary class="cursor-pointer font-medium">Some of the rows that would go</summary>
        <Trouble problem={sample.problem} />
        {#if sample.data}
          {#if sample.data.rows.length}
            <div class="overflow-x-auto">
              <table class="mt-2 text-xs">
                <thead
                  ><tr
                    >{#each sample.data.columns as c (c)}<th class="pe-4 text-left font-medium">{c}</th
                      >{/each}</tr
                  ></thead
                ><tbody
                  >{#each sample.data.rows as r, i (i)}<tr
                      >{#each r as v, j (j)}<td class="pe-4 whitespace-nowrap">{v}</td>{/each}</tr
                    >{/each}</tbody>
              </table>
            </div>
          {:else}<p class="mt-1 text-gray-600 dark:text-gray-400">None of them is there any more.</p>{/if}
        {:else if !sample.problem}<p class="mt-1 text-gray-600 dark:text-gray-400">
            They are being read …
          </p>{/if}
      </details>{/key}
  {/if}
  {#if d.statements.length}
    <details class="text-sm">
      <summary class="cursor-pointer font-medium">The very SQL that will run</summary>
      {#each d.statements as q, i (i)}<p class="mt-2 text-xs text-gray-600 dark:text-gray-400">{q.title}</p>
        <pre class="font-mono text-xs whitespace-pre-wrap">{q.sql}</pre>
        <p class="font-mono text-xs">{q.values.map((v, n) => `${n + 1}: ${v}`).join("   ")}</p>{/each}
    </details>
  {/if}
</div>

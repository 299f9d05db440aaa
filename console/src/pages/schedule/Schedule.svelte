<script lang="ts">
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { whenChanged } from "../../lib/live";
  import { Loader } from "../../lib/loader.svelte";
  import { count } from "../../lib/format";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import Day from "./Day.svelte";
  import { daysOf, marksOf, onDay, spanOf } from "./calendar";

  let month = $state(false);
  let day = $state(new Date());
  let span = $derived(spanOf(day, month));
  const most = 500; // firings that are asked for at a time
  const firings = new Loader(() =>
    take(
      api.GET("/firings", {
        params: { query: { from: span[0].toISOString(), to: span[1].toISOString(), limit: most } }
      })
    )
  );
  const coming = new Loader(() =>
    take(api.GET("/firings/coming", { params: { query: { until: span[1].toISOString() } } }))
  );
  const newest = new Loader(() => take(api.GET("/firings", { params: { query: { limit: 20 } } })));
  $effect(() => {
    void span;
    return whenChanged(() => {
      firings.load();
      coming.load();
      newest.load();
    });
  });
  let marks = $derived(
    marksOf(
      firings.data?.items ?? [],
      (coming.data?.items ?? []).filter((f) => new Date(f.at) >= span[0])
    )
  );
  let title = $derived(
    month
      ? day.toLocaleDateString("en", { month: "long", year: "numeric" })
      : `Week of ${span[0].toLocaleDateString("en", { day: "numeric", month: "long", year: "numeric" })}`
  );
  function move(by: number) {
    day = month
      ? new Date(day.getFullYear(), day.getMonth() + by, 1)
      : new Date(day.getFullYear(), day.getMonth(), day.getDate() + 7 * by);
  }
</script>

<Page title="Schedule" about="When rules run by themselves: what became of it, and what is to come.">
  {#snippet actions()}
    <Button size="sm" color="alternative" onclick={() => move(-1)} aria-label="Earlier">←</Button>
    <Button size="sm" color="alternative" onclick={() => (day = new Date())}>Today</Button>
    <Button size="sm" color="alternative" onclick={() => move(1)} aria-label="Later">→</Button>
    <Button size="sm" color={month ? "alternative" : "primary"} onclick={() => (month = false)}>Week</Button>
    <Button size="sm" color={month ? "primary" : "alternative"} onclick={() => (month = true)}>Month</Button>
  {/snippet}
  <Trouble problem={firings.problem ?? coming.problem} />
  <Panel {title} note={firings.data?.next ? `the newest ${most} firings of it` : ""}>
    <div class="grid grid-cols-7" role="list" aria-label="Days">
      {#each daysOf(span) as d (d.getTime())}
        <Day
          day={d}
          marks={onDay(marks, d)}
          most={month ? 4 : 12}
          faint={month && d.getMonth() !== day.getMonth()} />
      {/each}
    </div>
  </Panel>
  {#if coming.data && newest.data && coming.data.items.length + newest.data.items.length === 0}
    <Panel
      ><Blank title="No rule has a schedule"
        >Give a <a class="text-link" href="#/rules">rule</a> one: edit it, and write when it runs, like
        <code>daily at 02:30</code>. Until then, its runs are started by hand.</Blank
      ></Panel>
  {/if}
  <Panel title="Newest firings">
    <Listing
      label="Newest firings"
      heads={["At", "Rule", "Table", "State", "#Rows due", "Run", "Why"]}
      items={newest.data?.items}>
      {#snippet row(f: Schemas["Firing"])}
        <TableBodyRow>
          <TableBodyCell><When at={f.at} /></TableBodyCell>
          <TableBodyCell><a class="text-link" href="#/rules/{f.rule}">{f.rule}</a></TableBodyCell>
          <TableBodyCell>{f.source}.{f.table}</TableBodyCell>
          <TableBodyCell><State state={f.state} /></TableBodyCell>
          <TableBodyCell class="text-right">{f.plan ? count(f.due) : "–"}</TableBodyCell>
          <TableBodyCell
            >{#if f.run}<a class="text-link" href="#/runs/{f.run}">open</a>{:else}–{/if}</TableBodyCell>
          <TableBodyCell class="max-w-96 whitespace-normal">{f.reason}</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Nothing has fired yet" />{/snippet}
    </Listing>
  </Panel>
</Page>

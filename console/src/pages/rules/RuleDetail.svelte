<script lang="ts">
  import { push } from "svelte-spa-router";
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import ForecastChart from "./ForecastChart.svelte";
  import Keeping from "./Keeping.svelte";
  import PlanView from "./PlanView.svelte";
  import Requirements from "./Requirements.svelte";
  import RuleTimes from "./RuleTimes.svelte";

  let { params }: { params: { rule: string } } = $props();
  const rule = new Loader(() => take(api.GET("/rules/{rule}", { params: { path: params } })));
  const revisions = new Loader(() => take(api.GET("/rules/{rule}/revisions", { params: { path: params } })));
  const plans = new Loader(() =>
    take(api.GET("/plans", { params: { query: { rule: params.rule, limit: 1 } } }))
  );
  $effect(() => {
    rule.load();
    revisions.load();
    plans.load();
  });
  const forecast = new Loader(() =>
    take(api.GET("/rules/{rule}/forecast", { params: { path: params, query: { months: "12" } } }))
  );
  $effect(() => {
    forecast.load();
  });
  const keeping = new Loader(() => take(api.GET("/rules/{rule}/keeping", { params: { path: params } })));
  $effect(() => {
    keeping.load();
  });
  let problem = $state<Problem>();
  let busy = $state(false);
  let plan = $derived(plans.data?.items[0]);

  async function act(fn: () => Promise<unknown>) {
    busy = true;
    problem = undefined;
    try {
      await fn();
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
  let counting = $state<Schemas["Counting"]>();
  let stopCounting: (() => void) | undefined;
  const makePlan = (exact: boolean) =>
    act(async () => {
      const ticket = crypto.getRandomValues(new Uint32Array(4)).join("-"),
        cancel = new AbortController();
      let over = false;
      const timer = exact
        ? setInterval(
            () =>
              take(api.GET("/plans/counting/{ticket}", { params: { path: { ticket } } })).then(
                (c) => over || (counting = c),
                () => {}
              ),
            500
          )
        : 0; // there is nothing yet, or no more
      let stopped = false;
      stopCounting = () => {
        stopped = true;
        cancel.abort();
      };
      try {
        await take(api.POST("/plans", { body: { rule: params.rule, exact, ticket }, signal: cancel.signal }));
        await plans.load();
      } catch (e) {
        if (!stopped) throw e;
      } finally {
        clearInterval(timer);
        over = true;
        counting = undefined;
      }
    });
  $effect(() => () => stopCounting?.()); // leaving the page ends what nobody waits for
  const startRun = (empty = false) =>
    act(async () => {
      const r = await take(api.POST("/runs", { body: { plan: plan!.id, empty } }));
      push(`/runs/${r.id}`);
    });
</script>

<Page title={params.rule} about={rule.data?.body.about} back={{ href: "#/rules", text: "Rules" }}>
  {#snippet actions()}
    <Act right="administer" size="sm" color="alternative" href="#/rules/{params.rule}/edit">Edit</Act>
    <Act right="operate" any size="sm" disabled={busy} onclick={() => makePlan(false)}
      >{busy ? "Working …" : "Make a plan"}</Act>
  {/snippet}
  <Trouble problem={rule.problem ?? problem} />
  {#if counting}
    <div class="mb-4 flex items-center gap-3 text-sm">
      <span class="shrink-0">Counting: {counting.done} of {counting.pieces} stretches of age</span>
      <Bar percent={(100 * counting.done) / counting.pieces} label="Counting" />
      <Button size="xs" color="alternative" onclick={() => stopCounting?.()}>Stop</Button>
    </div>
  {/if}
  <Panel title="Plan" note={plan ? `of revision ${plan.revision}` : ""}>
    {#if plan}
      <PlanView
        {plan}
        current={rule.data?.revision}
        run={rule.data?.last_run}
        {busy}
        start={startRun}
        countThem={() => makePlan(true)} />
    {:else if plans.data}
      <Blank title="No plan yet">A plan counts what the rule would take, and changes nothing.</Blank>
    {/if}
  </Panel>
  {#if keeping.data}<Keeping kept={keeping.data} />{/if}
  <RuleTimes rule={params.rule} changed={() => (rule.load(), revisions.load())} />
  {#if rule.data}<Requirements body={rule.data.body} />{/if}
  {#if forecast.data}<Panel title="Forecast" note="what runs on the first of each month would take"
      ><ForecastChart forecast={forecast.data.items} /></Panel
    >{/if}
  <div class="grid gap-x-4 xl:grid-cols-2">
    <Panel title="Rule" note={rule.data ? `revision ${rule.data.revision}` : ""}>
      <pre class="overflow-x-auto px-4 py-3 font-mono text-xs leading-5">{rule.data?.text ?? ""}</pre>
    </Panel>
    <Panel title="Revisions">
      <Listing
        label="Revisions"
        heads={["#Revision", "Applied", "By", "What changed"]}
        items={revisions.data?.items}>
        {#snippet row(v: Schemas["Revision"])}
          <TableBodyRow
            ><TableBodyCell class="text-right">{v.revision}</TableBodyCell><TableBodyCell
              ><When at={v.applied_at} /></TableBodyCell
            ><TableBodyCell>{v.applied_by}</TableBodyCell><TableBodyCell class="whitespace-normal"
              >{v.changes.join("; ")}{v.reason ? ` (${v.reason})` : ""}</TableBodyCell
            ></TableBodyRow>
        {/snippet}
        {#snippet empty()}<Blank title="No revisions" />{/snippet}
      </Listing>
    </Panel>
  </div>
</Page>

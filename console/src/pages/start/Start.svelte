<script lang="ts">
  // From an empty service to the first archived row: source, table, rule, plan and run, one after the other. What is
  // done is read from the service, so that the page can be left at any time.
  import { Button } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, share, size } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Page from "../../lib/Page.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  import SourceForm from "../settings/SourceForm.svelte";
  import SourceReport from "../settings/SourceReport.svelte";
  import PickTable from "./PickTable.svelte";
  import Step from "./Step.svelte";

  const all = new Loader(async () => {
    const [sources, stores, rules] = await Promise.all([
      take(api.GET("/sources")),
      take(api.GET("/stores")),
      take(api.GET("/rules", { params: { query: { limit: 1 } } }))
    ]);
    const rule = rules.items[0];
    const plans =
      rule && (await take(api.GET("/plans", { params: { query: { rule: rule.name, limit: 1 } } })));
    return { source: sources.items[0], store: stores.items[0], rule, plan: plans?.items[0] };
  });
  $effect(() => whenChanged(() => all.load()));
  let report = $state<Schemas["Report"]>();
  let problem = $state<Problem>();
  let busy = $state(false);
  let it = $derived(all.data);
  let run = $derived(it?.rule?.last_run ?? undefined);
  let lacks = $derived(report?.items.filter((f) => f.level === "missing") ?? []);

  async function act(fn: () => Promise<unknown>) {
    busy = true;
    problem = undefined;
    try {
      await fn();
      await all.load();
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
  const makePlan = (rule: string) => act(() => take(api.POST("/plans", { body: { rule, exact: true } })));
  const start = (plan: string) => act(() => take(api.POST("/runs", { body: { plan, empty: false } })));
  const step = (done: unknown, before: unknown) => (done ? "done" : before ? "now" : "later");
  const ended = (r: Schemas["RunView"]) => ["done", "failed", "cancelled"].includes(r.state);
</script>

<Page
  title="Begin"
  about="From an empty service to the first archived row. Nothing leaves your database before the last step.">
  <Trouble problem={all.problem ?? problem} />
  {#if it}
    <ol>
      <Step
        number={1}
        title="Connect your database"
        state={step(it.source, true)}
        said={it.source ? `${it.source.name}: ${it.source.engine}, ${it.source.address}` : ""}>
        {#if !it.source}<SourceForm
            done={(_, r) => {
              report = r;
              all.load();
            }} />
        {:else if report && !it.rule}
          {#if lacks.length}<Warning class="m-3"
              >The service lacks something there; the lines below say what to grant.</Warning
            >{/if}
          <SourceReport {report} />
        {/if}
      </Step>
      <Step
        number={2}
        title="Where archived rows go"
        state={step(it.store, it.source)}
        said={it.store ? `${it.store.name}: ${it.store.path}, ${size(it.store.free)} free` : "no store yet"}>
        {#if !it.rule}<p class="px-4 py-2 text-sm">
            {#if it.store}Good for a beginning. Another disk, or a bucket, is better: <a
                class="text-link"
                href="#/settings/stores">stores</a
              >.{:else}<a class="text-link" href="#/settings/stores">Add a store</a>, and come back.{/if}
          </p>{/if}
      </Step>
      <Step
        number={3}
        title="Write the first rule"
        state={step(it.rule, it.source && it.store)}
        said={it.rule ? `${it.rule.name}: ${it.rule.spoken}` : "which table, and how long its rows stay"}>
        {#if it.source && !it.rule}<PickTable source={it.source.name} />{/if}
      </Step>
      <Step
        number={4}
        title="See what it would take"
        state={step(it.plan, it.rule)}
        said={it.plan
          ? `${count(it.plan.counts.due)} of ${count(it.plan.counts.total)} rows are due`
          : "a plan counts, and changes nothing"}>
        {#if it.rule && !run}
          {@const rule = it.rule.name}
          <div class="flex flex-wrap items-center gap-3 px-4 py-3 text-sm">
            <Button
              size="sm"
              color={it.plan ? "alternative" : "primary"}
              disabled={busy}
              onclick={() => makePlan(rule)}
              >{busy ? "Working …" : it.plan ? "Plan again" : "Make a plan"}</Button>
            {#if it.plan?.counts.due === 0}Nothing is that old yet: <a
                class="text-link"
                href="#/rules/{rule}/edit">change the rule</a
              >, and plan again.{:else if it.plan}<a class="text-link" href="#/rules/{rule}"
                >Look at the plan</a
              >: which part of the table goes, and some of its rows.{/if}
          </div>
        {/if}
      </Step>
      <Step
        number={5}
        title="Move them"
        state={step(run && ended(run), it.plan && it.plan.counts.due > 0)}
        said="in small batches: copied, read back and compared, then deleted">
        {#if run}
          <div class="px-4 py-3 text-sm">
            <div class="mb-2 flex items-center gap-3">
              <State state={run.state} /><a class="text-link" href="#/runs/{run.id}">the run</a>
              <span class="ms-auto">{count(run.done)} of {count(run.due)} rows</span>
            </div>
            <Bar percent={share(run.done, run.due)} label="progress of the first run" />
            {#if run.reason}<p class="mt-2">{run.reason}</p>{/if}
            {#if run.state === "done"}<p class="mt-3" data-testid="first">
                {count(run.ledger.deleted)} rows left {run.source}.{run.table}{run.action === "archive"
                  ? `, and lie in ${size(run.file_bytes)} of the archive`
                  : ""}. Go on to the
                <a class="text-link" href="#/archive">archive</a>,
                <a class="text-link" href="#/restores">bring rows back</a>, or
                <a class="text-link" href="#/rules/{run.rule}/edit">give the rule a schedule</a>.
              </p>{/if}
          </div>
        {:else if it.plan && it.plan.counts.due > 0}
          {@const plan = it.plan.id}
          <div class="px-4 py-3">
            <Button size="sm" disabled={busy} onclick={() => start(plan)}>Start the run</Button>
          </div>
        {/if}
      </Step>
    </ol>
  {/if}
</Page>

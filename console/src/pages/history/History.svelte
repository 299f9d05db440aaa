<script lang="ts">
  // What happened over days, weeks or months, for those who have no dashboard of their own.
  import { router, replace } from "svelte-spa-router";
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { count, plural, share, size, span } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Bars, { type Series } from "./Bars.svelte";
  import { first, sumUp, type By } from "./periods";

  const bys: By[] = ["day", "week", "month"];
  let asked = $derived(new URLSearchParams(router.querystring ?? ""));
  let by = $derived((bys as string[]).includes(asked.get("by") ?? "") ? (asked.get("by") as By) : "day");
  let rule = $derived(asked.get("rule") ?? "");
  const address = (by: By, rule: string) =>
    `/history?${new URLSearchParams({ by, ...(rule && { rule }) }).toString()}`;
  const history = new Loader(() =>
    take(api.GET("/history", { params: { query: { from: first(by), rule: rule || undefined } } }))
  );
  $effect(() => {
    void [by, rule];
    return whenChanged(() => history.load());
  });
  let periods = $derived(history.data ? sumUp(history.data, by) : []);
  let labels = $derived(periods.map((p) => (by === "month" ? p.begins.slice(0, 7) : p.begins.slice(5))));
  let some = $derived(history.data && history.data.days.length + history.data.efforts.length > 0);
  const of = (label: string, value: (p: (typeof periods)[0]) => number): Series => ({
    label,
    values: periods.map(value)
  });
  const named = (kind: string) =>
    [...new Set(history.data?.efforts.filter((e) => e.kind === kind).map((e) => e.name))].map((name) =>
      of(name.replaceAll("_", " "), (p) => p.efforts[`${kind} ${name}`] ?? 0)
    );
  let stores = $derived(
    [...new Set(history.data?.stores.map((s) => s.store))].map((name): Series => ({
      label: name,
      line: true,
      values: periods.map((p) => p.stores[name] ?? null)
    }))
  );
  let most = $derived(Math.max(...(history.data?.rules.map((r) => r.archived + r.purged) ?? []), 1));
</script>

<Page
  title={rule ? `History of ${rule}` : "History"}
  about="What runs came to on the days on which they ended, where their time went, and how stores grew; days in UTC."
  back={rule ? { href: `#${address(by, "")}`, text: "all rules" } : undefined}>
  {#snippet actions()}
    {#each bys as b (b)}<Button
        size="sm"
        color={by === b ? "primary" : "alternative"}
        aria-pressed={by === b}
        onclick={() => replace(address(b, rule))}>By {b}</Button
      >{/each}
  {/snippet}
  <Trouble problem={history.problem} />
  {#if history.data && !some}
    <Panel
      ><Blank title="Nothing happened since {history.data.from}"
        >As soon as a run has worked, it stands here.</Blank
      ></Panel>
  {:else if history.data}
    <div class="grid gap-x-4 xl:grid-cols-2">
      <Panel title="Rows">
        <Bars
          {labels}
          series={[of("archived", (p) => p.days.archived), of("purged", (p) => p.days.purged)]}
          unit={count}
          about="Rows that left their tables" />
      </Panel>
      <Panel title="Bytes">
        <Bars
          {labels}
          series={[
            of("freed in tables", (p) => p.days.freed),
            of("written to the archive", (p) => p.days.file_bytes)
          ]}
          unit={size}
          stacked={false}
          about="Bytes freed and written" />
      </Panel>
      <Panel title="Time at work" note="{rule ? 'of all rules; ' : ''}what works side by side is added up">
        <Bars {labels} series={named("stage")} unit={span} about="Time that runs worked, by stage" />
      </Panel>
      <Panel title="Time at rest" note="{rule ? 'of all rules; ' : ''}by reason">
        {#if named("rest").length}<Bars
            {labels}
            series={named("rest")}
            unit={span}
            about="Time that runs rested, by reason" />{:else}<Blank title="No run rested" />{/if}
      </Panel>
    </div>
    {#if stores.length}<Panel title="Stores" note="size at the end of each {by}">
        <Bars {labels} series={stores} unit={size} about="Size of stores" />
      </Panel>{/if}
    <Panel title="Rules" note="those that moved the most rows">
      <Listing
        label="Rules"
        heads={["Rule", "Table", "#Runs", "#Archived", "#Purged", "", "#Freed", "#Archive grew", "#Worked"]}
        items={history.data.rules}>
        {#snippet row(r: Schemas["RuleSums"])}
          <TableBodyRow>
            <TableBodyCell><a class="text-link" href="#{address(by, r.rule)}">{r.rule}</a></TableBodyCell>
            <TableBodyCell>{r.source}.{r.table}</TableBodyCell>
            <TableBodyCell class="text-right">{count(r.runs)}</TableBodyCell>
            <TableBodyCell class="text-right">{count(r.archived)}</TableBodyCell>
            <TableBodyCell class="text-right">{count(r.purged)}</TableBodyCell>
            <TableBodyCell class="w-32 min-w-20"
              ><Bar
                percent={share(r.archived + r.purged, most)}
                label="{plural(r.archived + r.purged, 'row')} beside the most" /></TableBodyCell>
            <TableBodyCell class="text-right">{size(r.freed)}</TableBodyCell>
            <TableBodyCell class="text-right">{size(r.file_bytes)}</TableBodyCell>
            <TableBodyCell class="text-right">{span(r.working_secs)}</TableBodyCell>
          </TableBodyRow>
        {/snippet}
        {#snippet empty()}<Blank title="No run ended in this time" />{/snippet}
      </Listing>
    </Panel>
  {/if}
</Page>

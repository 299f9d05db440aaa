<script lang="ts">
  import { Select, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { count, leftOut, share, short } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, Pages } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  const pages = new Pages();
  let state = $state("");
  const states = ["queued", "running", "paused", "resting", "copied", "done", "cancelled", "failed"].map(
    (s) => ({
      value: s,
      name: s
    })
  );
  const runs = new Loader(() =>
    take(api.GET("/runs", { params: { query: { limit: 25, after: pages.after, state } } }))
  );
  $effect(() => {
    void pages.after;
    void state;
    return whenChanged(() => runs.load());
  });
  const books = (l: Schemas["Ledger"]) =>
    l.balanced === null ? "open" : l.balanced ? "balanced" : "DO NOT BALANCE";
</script>

<Page title="Runs" about="Every plan that was carried out, the newest first.">
  {#snippet actions()}<Select
      size="sm"
      class="w-40"
      aria-label="state"
      placeholder="all states"
      clearable
      items={states}
      bind:value={state}
      onchange={() => pages.reset()} />{/snippet}
  <Trouble problem={runs.problem} />
  <Panel>
    <Listing
      label="Runs"
      heads={["Run", "Rule", "Action", "State", "Progress", "#Deleted", "#Not deleted", "Books", "Created"]}
      items={runs.data?.items}>
      {#snippet row(r: Schemas["RunView"])}
        <TableBodyRow>
          <TableBodyCell
            ><a class="text-link font-mono text-xs" href="#/runs/{r.id}" title={r.id}>{short(r.id)}</a
            ></TableBodyCell>
          <TableBodyCell><a class="text-link" href="#/rules/{r.rule}">{r.rule}</a></TableBodyCell>
          <TableBodyCell>{r.action}</TableBodyCell>
          <TableBodyCell><State state={r.state} /></TableBodyCell>
          <TableBodyCell class="w-36"
            ><Bar
              percent={r.state === "done" ? 100 : share(r.done, r.due)}
              label="progress" /></TableBodyCell>
          <TableBodyCell class="text-right">{count(r.ledger.deleted)}</TableBodyCell>
          <TableBodyCell class="text-right">{count(leftOut(r.ledger))}</TableBodyCell>
          <TableBodyCell>{books(r.ledger)}</TableBodyCell>
          <TableBodyCell><When at={r.created_at} /></TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}{#if state || !pages.first}<Blank title="No such run" />{:else}<Blank
            title="No run yet"
            >Open a <a class="text-link" href="#/rules">rule</a>, make a plan, and start it.</Blank
          >{/if}{/snippet}
    </Listing>
  </Panel>
  <Pager {pages} next={runs.data?.next} />
</Page>

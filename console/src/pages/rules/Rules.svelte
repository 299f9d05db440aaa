<script lang="ts">
  import { Input, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { Loader, Pages } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  const pages = new Pages();
  let text = $state("");
  let sought = $state("");
  let timer = 0;
  const rules = new Loader(() =>
    take(api.GET("/rules", { params: { query: { limit: 50, after: pages.after, text: sought } } }))
  );
  $effect(() => {
    void pages.after;
    void sought;
    rules.load();
  });
  function seek() {
    // once the typing stops
    clearTimeout(timer);
    timer = window.setTimeout(() => {
      pages.reset();
      sought = text.trim();
    }, 250);
  }
</script>

<Page title="Rules" about="What must be kept, how long, and why.">
  {#snippet actions()}<Input
      size="sm"
      class="w-56 placeholder:text-gray-500 dark:placeholder:text-gray-400"
      type="search"
      aria-label="search rules"
      placeholder="rule, source or table"
      bind:value={text}
      oninput={seek} /><Act right="administer" size="sm" color="alternative" href="#/rules/apply"
      >Apply a file</Act
    ><Act right="administer" size="sm" href="#/rules/new">New rule</Act>{/snippet}
  <Trouble problem={rules.problem} />
  <Panel>
    <Listing
      label="Rules"
      heads={["Rule", "Table", "Stays live", "Then", "Last run"]}
      items={rules.data?.items}>
      {#snippet row(r: Schemas["RuleView"])}
        <TableBodyRow>
          <TableBodyCell
            ><a class="text-link" href="#/rules/{r.name}">{r.name}</a>
            <div class="max-w-72 truncate text-xs text-gray-500 dark:text-gray-400" title={r.body.about}>
              {r.body.about}
            </div></TableBodyCell>
          <TableBodyCell
            ><a class="text-link" href="#/tables/{r.source}/{encodeURIComponent(r.table)}"
              >{r.source}.{r.table}</a
            ></TableBodyCell>
          <TableBodyCell class="max-w-80 whitespace-normal">{r.spoken}</TableBodyCell>
          <TableBodyCell
            >{r.body.then}{r.body.archive.store ? ` to ${r.body.archive.store}` : ""}</TableBodyCell>
          <TableBodyCell
            >{#if r.last_run}<a class="inline-flex items-center gap-2" href="#/runs/{r.last_run.id}"
                ><State state={r.last_run.state} /><When at={r.last_run.created_at} day /></a
              >{:else}never{/if}</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}{#if sought}<Blank title="No rule with “{sought}” in it" />{:else}<Blank
            title="No rule yet"
            >Nothing is ever deleted without one. <a class="text-link" href="#/rules/new">Write a rule</a>, or
            begin at a <a class="text-link" href="#/tables">table</a>.</Blank
          >{/if}{/snippet}
    </Listing>
  </Panel>
  <Pager {pages} next={rules.data?.next} back="Back" on="More" />
</Page>

<script lang="ts">
  // Archived rows of a table, by a condition in the language of rules.
  import { push, router } from "svelte-spa-router";
  import { Button, Checkbox, Input, Label, Select, Spinner, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, archivedTables, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import { plural, short } from "../../lib/format";
  import Cold from "../../lib/Cold.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import { summary } from "./summary";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  const asked = new URLSearchParams(router.querystring ?? "");
  let table = $state(asked.get("table") ?? "");
  let where = $state("");
  let columns = $state("");
  let live = $state(false);
  let found = $state<Schemas["Found"]>();
  let problem = $state<Problem>();
  let busy = $state(false);
  let saving = $state(false);
  let picked = $state<string[]>([]);

  const archived = new Loader(archivedTables);
  let tables = $derived(
    (archived.data?.items ?? []).map((t) => `${t.source}.${t.table}`).map((name) => ({ value: name, name }))
  );
  archived.load().then(() => {
    if (table) search(); // who comes with a table wants to see its rows
    table ||= tables[0]?.value ?? "";
  });

  function request(limit: number): Schemas["SearchRequest"] {
    const dot = table.indexOf(".");
    const list = columns
      .split(",")
      .map((c) => c.trim())
      .filter(Boolean);
    return {
      source: table.slice(0, dot),
      table: table.slice(dot + 1),
      where,
      limit,
      ...(live && limit > 0 && { live }),
      ...(list.length && { columns: list })
    };
  }
  async function search(e?: SubmitEvent) {
    e?.preventDefault();
    busy = true;
    problem = undefined;
    picked = [];
    try {
      found = await take(api.POST("/search", { body: request(200) }));
    } catch (e) {
      found = undefined;
      problem = problemOf(e);
    }
    busy = false;
  }
  const mark = (x: Schemas["FoundRow"]) => `${x.segment}:${x.ordinal}`;
  function pick(x: Schemas["FoundRow"], yes: boolean) {
    picked = yes ? [...picked, mark(x)] : picked.filter((p) => p !== mark(x));
  }
  function restorePicked() {
    sessionStorage.setItem("picked", JSON.stringify(picked)); // too many for an address
    push("/restores/request?rows=picked");
  }
  async function save() {
    saving = true;
    problem = undefined;
    try {
      const text = await take(
        api.POST("/search/rows", { params: { query: { format: "csv" } }, body: request(0), parseAs: "blob" })
      );
      const link = document.createElement("a");
      link.href = URL.createObjectURL(text as unknown as Blob);
      link.download = `${table}.csv`;
      link.click();
      URL.revokeObjectURL(link.href);
    } catch (e) {
      problem = problemOf(e);
    }
    saving = false;
  }
</script>

<Page
  title="Search the archive"
  about="Rows that left a table and were archived, as they were when they left.">
  <Trouble problem={archived.problem} />
  {#if archived.data && tables.length === 0}
    <Blank title="The archive is empty"
      >Rows get there by runs of rules with <code>then: archive</code>.</Blank>
  {:else}
    <Panel>
      <form onsubmit={search} class="space-y-3 p-4">
        <div class="grid gap-3 sm:grid-cols-3">
          <Label>Table<Select size="sm" id="search-table" items={tables} bind:value={table} /></Label>
          <Label class="sm:col-span-2"
            >Columns to show<Input
              size="sm"
              id="search-columns"
              class="font-mono"
              bind:value={columns}
              placeholder="all, or some, separated by commas"
              spellcheck="false" /></Label>
        </div>
        <Label
          >Which rows<Input
            size="sm"
            id="search-where"
            class="font-mono"
            bind:value={where}
            placeholder="a condition, like booking_id = 4711; nothing: every row"
            spellcheck="false" /></Label>
        <Checkbox id="search-live" bind:checked={live}
          >rows of the table itself too, for 15 seconds at the most</Checkbox>
        <div class="flex items-center gap-3">
          <Button size="sm" type="submit" disabled={busy || !table}>{busy ? "Searching …" : "Search"}</Button>
          {#if found?.items.length}<Button size="sm" color="alternative" disabled={saving} onclick={save}
              >{saving ? "Reading all of them …" : "Save all as CSV"}</Button>
            <Button size="sm" color="alternative" disabled={picked.length === 0} onclick={restorePicked}
              >{picked.length
                ? `Restore ${plural(picked.length, "picked row")}`
                : "Restore picked rows"}</Button
            >{/if}
        </div>
        {#if problem}<div class="overflow-x-auto text-sm [&_*]:whitespace-pre-wrap" role="alert">
            <Trouble {problem} />
          </div>{/if}
      </form>
    </Panel>
    {#if busy}
      <div class="p-8 text-center" aria-busy="true">
        <Spinner size="6" /><span class="sr-only">searching</span>
      </div>
    {:else if found}
      {@const s = found.searched}
      <p class="text-sm text-gray-600 dark:text-gray-400" role="status">
        {summary(s)}
      </p>
      {#each s.lacking ?? [] as l (l.column)}
        <p class="my-2 text-sm text-amber-800 dark:text-amber-300" role="status">
          {plural(l.segments.length, "segment")} with {plural(l.rows, "row")}
          {l.segments.length === 1 ? "has" : "have"} no column {l.column}, which counts as NULL there.
          <code class="text-xs">ambercellar column tell {table.replace(".", " ")} {l.column}</code> says what it
          was called then (-was NAME), or that it was added (-added).
        </p>
      {/each}
      {#if s.untold}<p class="my-2 text-sm text-amber-800 dark:text-amber-300" role="alert">
          {s.untold}
        </p>{/if}
      {#if s.cold}<div class="my-3"><Cold cold={s.cold} ask /></div>{/if}
      <Panel>
        <div class="overflow-x-auto">
          <Listing label="Archived rows" heads={["Pick", ...found.columns, "Segment"]} items={found.items}>
            {#snippet row(x: Schemas["FoundRow"])}
              <TableBodyRow>
                <TableBodyCell
                  >{#if x.segment}<Checkbox
                      aria-label="pick row {x.ordinal} of segment {short(x.segment)}"
                      checked={picked.includes(mark(x))}
                      onchange={(e: Event) =>
                        pick(x, (e.currentTarget as HTMLInputElement).checked)} />{/if}</TableBodyCell>
                {#each x.values as v, i (i)}<TableBodyCell
                    class="max-w-64 truncate font-mono text-xs"
                    title={v ?? "NULL"}
                    >{#if v === null}<span class="text-gray-500 italic">NULL</span
                      >{:else}{v}{/if}</TableBodyCell
                  >{/each}
                <TableBodyCell
                  >{#if x.segment}<a
                      class="text-link font-mono text-xs"
                      href="#/archive/{x.segment}"
                      title="row {x.ordinal} of segment {x.segment}">{short(x.segment)}</a
                    >{:else}<span class="text-xs">in the table</span>{/if}</TableBodyCell>
              </TableBodyRow>
            {/snippet}
            {#snippet empty()}<Blank title="No archived row is like that" />{/snippet}
          </Listing>
        </div>
      </Panel>
    {/if}
  {/if}
</Page>

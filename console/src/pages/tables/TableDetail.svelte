<script lang="ts">
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { age, count, size } from "../../lib/format";
  import { Loader } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Facts from "../../lib/Facts.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Partitions from "./Partitions.svelte";
  import Page from "../../lib/Page.svelte";
  import Reconciliation from "./Reconciliation.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";

  let { params }: { params: { source: string; table: string } } = $props();
  const table = new Loader(() =>
    take(api.GET("/sources/{source}/tables/{table}", { params: { path: params } }))
  );
  $effect(() => {
    table.load();
  });
  let t = $derived(table.data);
  let keys = $derived(t ? [...t.references, ...t.referenced_by] : undefined);
</script>

<Page title="{params.source}.{params.table}" back={{ href: "#/tables", text: "Tables" }}>
  {#snippet actions()}<Act
      right="administer"
      size="sm"
      href="#/rules/new?source={encodeURIComponent(params.source)}&table={encodeURIComponent(
        params.table
      )}&age={encodeURIComponent(t?.age_column ?? '')}">Write a rule</Act
    >{/snippet}
  <Trouble problem={table.problem} />
  {#each t?.obstacles ?? [] as o (o)}<Warning class="mb-3">No rule can work on this table: {o}</Warning
    >{/each}
  {#if t}
    <Panel
      ><Facts
        facts={[
          ["Rows", count(t.rows)],
          ["Data", size(t.bytes)],
          ["Indexes", size(t.index_bytes)],
          ["Key", (t.address ? "" : t.key.join(", ")) || "none"],
          ["Likely age", t.age_column ?? "none"],
          ["Oldest", age(t.oldest ?? "")],
          ["Newest", age(t.newest ?? "")],
          ["Fires on delete", t.triggers.join(", ")],
          ["Note", t.notes.join("; ")]
        ]} /></Panel>
  {/if}
  <Panel title="Columns">
    <Listing label="Columns" heads={["Column", "Type", "Null", "Archived as"]} items={t?.columns}>
      {#snippet row(c: Schemas["Column"])}
        <TableBodyRow>
          <TableBodyCell class="font-medium"
            >{c.name}{#if t?.key.includes(c.name)}<span class="ms-2 text-xs text-gray-500 dark:text-gray-400"
                >key</span
              >{/if}</TableBodyCell>
          <TableBodyCell>{c.type || "(none)"}</TableBodyCell>
          <TableBodyCell>{c.nullable ? "may be NULL" : ""}</TableBodyCell>
          <TableBodyCell
            >{c.problem || (c.as_text ? "the database's exact text" : c.kind)}{c.generated
              ? ", computed"
              : ""}</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="No columns" />{/snippet}
    </Listing>
  </Panel>
  {#if t?.partitions?.length}<Panel title="Partitions" note="by {t.partitions[0].column}"
      ><Partitions source={params.source} table={t} made={() => table.load()} /></Panel
    >{/if}
  <Reconciliation source={params.source} table={params.table} />
  <div class="grid gap-x-4 xl:grid-cols-2">
    <Panel title="Indexes">
      <Listing label="Indexes" heads={["Index", "Columns", "Unique"]} items={t?.indexes}>
        {#snippet row(x: Schemas["Index"])}<TableBodyRow
            ><TableBodyCell>{x.name}</TableBodyCell><TableBodyCell>{x.columns.join(", ")}</TableBodyCell
            ><TableBodyCell>{x.unique ? "unique" : ""}{x.partial ? " partial" : ""}</TableBodyCell
            ></TableBodyRow
          >{/snippet}
        {#snippet empty()}<Blank title="No indexes beside the key" />{/snippet}
      </Listing>
    </Panel>
    <Panel title="Foreign keys">
      <Listing label="Foreign keys" heads={["From", "To", "On delete"]} items={keys}>
        {#snippet row(k: Schemas["ForeignKey"])}<TableBodyRow
            ><TableBodyCell>{k.table} ({k.columns.join(", ")})</TableBodyCell><TableBodyCell
              >{k.ref_table} ({k.ref_columns.join(", ")})</TableBodyCell
            ><TableBodyCell>{k.on_delete}</TableBodyCell></TableBodyRow
          >{/snippet}
        {#snippet empty()}<Blank title="No foreign keys in either direction" />{/snippet}
      </Listing>
    </Panel>
  </div>
</Page>

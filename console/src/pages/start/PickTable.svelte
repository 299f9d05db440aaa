<script lang="ts">
  // The tables of a source that a rule can work on, the largest first.
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { age, count, size } from "../../lib/format";
  import { Loader } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  let { source }: { source: string } = $props();
  const few = 8;
  const tables = new Loader(async () => {
    const list = await take(api.GET("/sources/{source}/tables", { params: { path: { source } } }));
    const space = (t: Schemas["Table"]) => Math.max(t.bytes, 0) + Math.max(t.index_bytes, 0);
    return list.items
      .filter((t) => !t.obstacles.length)
      .sort((a, b) => space(b) - space(a) || b.rows - a.rows);
  });
  tables.load();
  const address = (t: Schemas["Table"]) =>
    `#/rules/new?${new URLSearchParams({ source, table: t.name, age: t.age_column ?? "", next: "start" })}`;
</script>

<div class="px-4 pt-2 empty:hidden"><Trouble problem={tables.problem} /></div>
{#if !tables.problem}
  <Listing
    label="Tables"
    heads={["Table", "#Rows", "#Size", "Age column", "Oldest", ""]}
    items={tables.data?.slice(0, few)}>
    {#snippet row(t: Schemas["Table"])}
      <TableBodyRow>
        <TableBodyCell>{t.name}</TableBodyCell>
        <TableBodyCell class="text-right">{count(t.rows)}</TableBodyCell>
        <TableBodyCell class="text-right">{size(t.bytes)}</TableBodyCell>
        <TableBodyCell>{t.age_column ?? "–"}</TableBodyCell>
        <TableBodyCell title={t.oldest}>{age(t.oldest ?? "").slice(0, 10)}</TableBodyCell>
        <TableBodyCell class="text-right"
          >{#if t.age_column}<Button size="xs" href={address(t)}>Write a rule for {t.name}</Button
            >{/if}</TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="This database has no table that a rule can work on"
        >The service sees no tables, or none with a key; look at <a class="text-link" href="#/tables"
          >Tables</a
        >.</Blank
      >{/snippet}
  </Listing>
  {#if (tables.data?.length ?? 0) > few}<p class="px-4 py-2 text-sm">
      The {few} largest of {count(tables.data!.length)}; <a class="text-link" href="#/tables">all tables</a>.
    </p>{/if}
{/if}

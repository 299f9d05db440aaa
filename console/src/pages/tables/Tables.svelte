<script lang="ts">
  import { TableBodyCell, TableBodyRow } from "flowbite-svelte";
  import { api, take, type Schemas } from "../../api/client";
  import { age, count, share, size } from "../../lib/format";
  import { Loader } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  type Group = { source: Schemas["Config"]; tables: Loader<Schemas["Table"][]> };
  const sources = new Loader(async () => {
    const list = await take(api.GET("/sources"));
    return list.items.map((source): Group => {
      const tables = new Loader(async () => {
        const found = await take(api.GET("/sources/{source}/tables", { params: { path: { source: source.name } } }));
        return found.items.sort((a, b) => b.bytes + b.index_bytes - a.bytes - a.index_bytes);
      });
      tables.load();
      return { source, tables };
    });
  });
  const rules = new Loader(() => take(api.GET("/rules")));
  sources.load();
  rules.load();
  const total = (t: Schemas["Table"]) => Math.max(t.bytes, 0) + Math.max(t.index_bytes, 0);
  const ruleOf = (source: string, table: string) => rules.data?.items.find((r) => r.source === source && r.table === table);
</script>

<Page title="Tables" about="What takes the space, the largest first.">
  <Trouble problem={sources.problem} />
  {#if sources.data?.length === 0}
    <Panel><Blank title="No source yet">Add one on the command line: <code>ambercellar source add harbour -engine sqlite -address /path/to/file.db</code></Blank></Panel>
  {/if}
  {#each sources.data ?? [] as g (g.source.name)}
    {@const most = Math.max(...(g.tables.data ?? []).map(total), 1)}
    <Panel title={g.source.name} note="{g.source.engine} · {g.source.address}">
      <div class="px-4 pt-2 empty:hidden"><Trouble problem={g.tables.problem} /></div>
      {#if !g.tables.problem}
        <Listing label="Tables of {g.source.name}" heads={["Table", "#Rows", "#Data", "#Indexes", "Size", "Age column", "Oldest", "Newest", "Rule"]} items={g.tables.data}>
          {#snippet row(t: Schemas["Table"])}
            {@const rule = ruleOf(g.source.name, t.name)}
            <TableBodyRow>
              <TableBodyCell><a class="text-link" href="#/tables/{g.source.name}/{encodeURIComponent(t.name)}">{t.name}</a></TableBodyCell>
              <TableBodyCell class="text-right">{count(t.rows)}</TableBodyCell>
              <TableBodyCell class="text-right">{size(t.bytes)}</TableBodyCell>
              <TableBodyCell class="text-right">{size(t.index_bytes)}</TableBodyCell>
              <TableBodyCell class="w-40 min-w-24"><Bar percent={share(total(t), most)} label="size of {t.name} beside the largest table" /></TableBodyCell>
              <TableBodyCell>{t.age_column ?? "–"}</TableBodyCell>
              <TableBodyCell title={t.oldest}>{age(t.oldest ?? "").slice(0, 10)}</TableBodyCell>
              <TableBodyCell title={t.newest}>{age(t.newest ?? "").slice(0, 10)}</TableBodyCell>
              <TableBodyCell>{#if rule}<a class="text-link" href="#/rules/{rule.name}">{rule.name}</a>{:else if t.obstacles.length}<span title={t.obstacles.join("; ")}>refused</span>{:else}–{/if}</TableBodyCell>
            </TableBodyRow>
          {/snippet}
          {#snippet empty()}<Blank title="This database has no tables that the service may see" />{/snippet}
        </Listing>
      {/if}
    </Panel>
  {/each}
</Page>

<script lang="ts">
  import { Button, Input, Select, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { age, count, share, size } from "../../lib/format";
  import { Loader } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  type Group = {
    source: Schemas["Config"];
    tables: Loader<Schemas["Table"][]>;
    rules: Loader<Record<string, string>>;
    shown: number;
  };
  const few = 4; // sources whose tables are shown at once; of more, those that somebody opens
  const step = 50; // tables of a source that are shown at a time
  const sources = new Loader(async () => {
    const list = await take(api.GET("/sources"));
    const groups = list.items.map((source): Group => {
      const params = { path: { source: source.name } };
      const tables = new Loader(
        async () => (await take(api.GET("/sources/{source}/tables", { params }))).items
      );
      const rules = new Loader(async () => {
        const found: Record<string, string> = {};
        for (let after: string | undefined; ;) {
          const page = await take(
            api.GET("/rules", { params: { query: { source: source.name, limit: 500, after } } })
          );
          for (const r of page.items) found[r.table] = r.name;
          if (!page.next) return found;
          after = page.next;
        }
      });
      const group: Group = $state({ source, tables, rules, shown: step });
      return group;
    });
    if (groups.length <= few) groups.forEach(open);
    return groups;
  });
  function open(g: Group) {
    g.tables.load();
    g.rules.load();
  }
  sources.load();
  let text = $state("");
  let by = $state("size");
  const orders: Record<string, (a: Schemas["Table"], b: Schemas["Table"]) => number> = {
    size: (a, b) => total(b) - total(a),
    rows: (a, b) => b.rows - a.rows,
    name: (a, b) => a.name.localeCompare(b.name),
    oldest: (a, b) => (a.oldest || "~").localeCompare(b.oldest || "~")
  };
  const wanted = (g: Group) =>
    (g.tables.data ?? [])
      .filter((t) => t.name.toLowerCase().includes(text.trim().toLowerCase()))
      .sort(orders[by]);
  const total = (t: Schemas["Table"]) => Math.max(t.bytes, 0) + Math.max(t.index_bytes, 0);
</script>

<Page title="Tables" about="What takes the space.">
  {#snippet actions()}
    <Input
      size="sm"
      class="w-56 placeholder:text-gray-500 dark:placeholder:text-gray-400"
      type="search"
      aria-label="search tables"
      placeholder="part of a name"
      bind:value={text} />
    <Select
      size="sm"
      class="w-40"
      aria-label="order"
      items={[
        { value: "size", name: "largest first" },
        { value: "rows", name: "most rows first" },
        { value: "oldest", name: "oldest first" },
        { value: "name", name: "by name" }
      ]}
      bind:value={by} />
  {/snippet}
  <Trouble problem={sources.problem} />
  {#if sources.data?.length === 0}
    <Panel
      ><Blank title="No source yet"
        >Add the database whose tables grow under <a class="text-link" href="#/settings/sources">Settings</a>,
        or
        <a class="text-link" href="#/start">begin step by step</a>.</Blank
      ></Panel>
  {/if}
  {#each sources.data ?? [] as g (g.source.name)}
    {@const most = Math.max(...(g.tables.data ?? []).map(total), 1)}
    {@const list = wanted(g)}
    <Panel title={g.source.name} note="{g.source.engine} · {g.source.address}">
      {#if !g.tables.data && !g.tables.busy && !g.tables.problem}<div class="px-4 py-2">
          <Button size="xs" color="alternative" onclick={() => open(g)}
            >Show the tables of {g.source.name}</Button>
        </div>{:else}
        <div class="px-4 pt-2 empty:hidden"><Trouble problem={g.tables.problem} /></div>
        {#if !g.tables.problem}
          <Listing
            label="Tables of {g.source.name}"
            heads={["Table", "#Rows", "#Data", "#Indexes", "Size", "Age column", "Oldest", "Newest", "Rule"]}
            items={g.tables.data && list.slice(0, g.shown)}>
            {#snippet row(t: Schemas["Table"])}
              {@const rule = g.rules.data?.[t.name]}
              <TableBodyRow>
                <TableBodyCell
                  ><a class="text-link" href="#/tables/{g.source.name}/{encodeURIComponent(t.name)}"
                    >{t.name}</a
                  ></TableBodyCell>
                <TableBodyCell class="text-right">{count(t.rows)}</TableBodyCell>
                <TableBodyCell class="text-right">{size(t.bytes)}</TableBodyCell>
                <TableBodyCell class="text-right">{size(t.index_bytes)}</TableBodyCell>
                <TableBodyCell class="w-40 min-w-24"
                  ><Bar
                    percent={share(total(t), most)}
                    label="size of {t.name} beside the largest table" /></TableBodyCell>
                <TableBodyCell>{t.age_column ?? "–"}</TableBodyCell>
                <TableBodyCell title={t.oldest}>{age(t.oldest ?? "").slice(0, 10)}</TableBodyCell>
                <TableBodyCell title={t.newest}>{age(t.newest ?? "").slice(0, 10)}</TableBodyCell>
                <TableBodyCell
                  >{#if rule}<a class="text-link" href="#/rules/{rule}">{rule}</a
                    >{:else if t.obstacles.length}<span title={t.obstacles.join("; ")}>refused</span
                    >{:else}–{/if}</TableBodyCell>
              </TableBodyRow>
            {/snippet}
            {#snippet empty()}<Blank
                title={text.trim()
                  ? `No table with “${text.trim()}” in its name`
                  : "This database has no tables that the service may see"} />{/snippet}
          </Listing>
          {#if list.length > g.shown}<div
              class="border-t border-gray-200 px-4 py-2 text-sm dark:border-gray-700">
              <Button size="xs" color="alternative" onclick={() => (g.shown += step)}
                >Show {Math.min(step, list.length - g.shown)} more of {count(list.length)}</Button>
            </div>{/if}
        {/if}
      {/if}
    </Panel>
  {/each}
</Page>

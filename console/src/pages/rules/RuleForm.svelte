<script lang="ts">
  // A rule as a form. What there is to choose from comes from the databases.
  import { Button, Input, Label, Select } from "../../lib/ui";
  import { api, take } from "../../api/client";
  import { Loader } from "../../lib/loader.svelte";
  import ArchiveFields from "./ArchiveFields.svelte";
  import ClauseLine from "./ClauseLine.svelte";
  import RelatedLines from "./RelatedLines.svelte";
  import RequireFields from "./RequireFields.svelte";
  import RunFields from "./RunFields.svelte";
  import { names, type Clause, type Draft } from "./draft";
  let { draft, change }: { draft: Draft; change: (d: Draft) => void } = $props();

  const sources = new Loader(() => take(api.GET("/sources")));
  const stores = new Loader(() => take(api.GET("/stores")));
  const keeps = new Loader(() => take(api.GET("/keeps")));
  const tables = new Loader(() =>
    take(api.GET("/sources/{source}/tables", { params: { path: { source: draft.source } } }))
  );
  sources.load();
  stores.load();
  keeps.load();
  $effect(() => {
    if (draft.source) tables.load();
  });

  let table = $derived(tables.data?.items.find((t) => t.name === draft.table));
  let ages = $derived(
    (table?.columns ?? []).filter((c) => c.age).map((c) => ({ value: c.name, name: `${c.name} (${c.type})` }))
  );
  let ageColumn = $derived(table?.columns.find((c) => c.name === draft.age.column));
  let shared = $derived((keeps.data?.items ?? []).map((k) => k.name));
  const zones = [...new Set(["UTC", ...Intl.supportedValuesOf("timeZone")])].map((z) => ({
    value: z,
    name: z
  }));
  const set = (part: Partial<Draft>) => change({ ...draft, ...part });
  const value = (e: Event) => (e.target as HTMLInputElement | HTMLSelectElement).value;
  function setTable(name: string) {
    const t = tables.data?.items.find((x) => x.name === name);
    set({ table: name, age: { column: t?.age_column ?? "" } });
  }
  function setAge(column: string) {
    const c = table?.columns.find((x) => x.name === column);
    set({ age: c?.age === "epoch" ? { column, unit: "seconds" } : { column } });
  }
  function setClause(i: number, c: Clause) {
    set({ clauses: draft.clauses.map((old, j) => (j === i ? c : old)) });
  }
  function addClause() {
    const taken = draft.clauses.some((c) => c.otherwise || !c.where);
    set({
      clauses: [
        ...draft.clauses,
        taken ? { where: "", keep: { period: "P3Y" } } : { otherwise: true, keep: { period: "P18M" } }
      ]
    });
  }
</script>

<div class="grid gap-x-4 gap-y-3 px-4 py-3 sm:grid-cols-2">
  <Label>Rule<Input size="sm" id="name" value={draft.name} oninput={(e) => set({ name: value(e) })} /></Label>
  <Label
    >Why the records are kept<Input
      size="sm"
      id="about"
      value={draft.about ?? ""}
      oninput={(e) => set({ about: value(e) })} /></Label>
  <Label
    >Source<Select
      size="sm"
      placeholder=""
      id="source"
      items={names(sources.data?.items, draft.source)}
      value={draft.source}
      onchange={(e) => set({ source: value(e), table: "", age: { column: "" } })} /></Label>
  <Label
    >Table<Select
      size="sm"
      placeholder=""
      id="table"
      items={names(tables.data?.items, draft.table)}
      value={draft.table}
      onchange={(e) => setTable(value(e))} /></Label>
  <Label
    >Age<Select
      size="sm"
      placeholder=""
      id="age"
      items={ages.length ? ages : [{ value: draft.age.column, name: draft.age.column }]}
      value={draft.age.column}
      onchange={(e) => setAge(value(e))} /></Label>
  {#if ageColumn?.age === "epoch"}
    <Label
      >It counts<Select
        size="sm"
        placeholder=""
        id="unit"
        items={["seconds", "milliseconds", "microseconds"].map((v) => ({ value: v, name: v }))}
        value={draft.age.unit}
        onchange={(e) => set({ age: { ...draft.age, unit: value(e) } })} /></Label>
  {:else}
    <Label
      >Calendar and clock of<Select
        size="sm"
        placeholder=""
        id="zone"
        items={zones}
        value={draft.zone || "UTC"}
        onchange={(e) => set({ zone: value(e) })} /></Label>
  {/if}
</div>
<div class="border-t border-gray-200 dark:border-gray-700">
  {#each draft.clauses as clause, i (i)}
    <ClauseLine
      {clause}
      number={i + 1}
      {shared}
      only={draft.clauses.length === 1}
      change={(c) => setClause(i, c)}
      remove={() => set({ clauses: draft.clauses.filter((_, j) => j !== i) })} />
  {/each}
  <div class="px-4 pb-3"><Button size="xs" color="alternative" onclick={addClause}>Add a clause</Button></div>
</div>
<ArchiveFields {draft} {set} stores={stores.data?.items ?? []} />
<RunFields {draft} {set} parted={!!table?.partitions?.length} />
<RequireFields {draft} {set} />
{#if table?.referenced_by.length || draft.related?.length}
  <fieldset class="min-w-0 border-t border-gray-200 px-4 py-3 dark:border-gray-700">
    <legend class="sr-only">Related tables</legend>
    <p class="pb-1 text-xs text-gray-600 dark:text-gray-400">
      Rows of other tables that refer to these; a row and what goes with it leave whole or not at all
    </p>
    <RelatedLines
      table={draft.table}
      tables={tables.data?.items ?? []}
      related={draft.related ?? []}
      change={(r) => set({ related: r.length ? r : undefined })} />
  </fieldset>
{/if}

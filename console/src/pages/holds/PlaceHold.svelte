<script lang="ts">
  // The form that places a hold; what it would hold is checked as it is typed.
  import { Alert, Button, Input, Label, Select } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import { plural } from "../../lib/format";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { done }: { done: () => void } = $props();
  let source = $state(""),
    table = $state(""),
    where = $state(""),
    reference = $state(""),
    reason = $state("");
  let problem = $state<Problem>();
  let placed = $state<Schemas["Placed"]>();
  let checked = $state<Schemas["FilterResult"]>();
  let busy = $state(false);
  const sources = new Loader(() => take(api.GET("/sources")));
  const tables = new Loader(() =>
    take(api.GET("/sources/{source}/tables", { params: { path: { source } } }))
  );
  sources.load().then(() => (source = sources.data?.items[0]?.name ?? ""));
  $effect(() => {
    if (source) tables.load();
  });
  const names = (list: { name: string }[] | undefined) =>
    (list ?? []).map((x) => ({ value: x.name, name: x.name }));
  let timer: ReturnType<typeof setTimeout>;
  function typed() {
    clearTimeout(timer);
    timer = setTimeout(async () => {
      checked =
        where && table
          ? await take(api.POST("/filters/check", { body: { source, table, where } })).catch(() => undefined)
          : undefined;
    }, 300);
  }
  async function place(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    problem = undefined;
    try {
      placed = await take(api.POST("/holds", { body: { source, table, where, reference, reason } }));
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<Panel title="Place a hold">
  <form onsubmit={place} class="space-y-3 p-4">
    <Trouble {problem} />
    {#if placed}
      <Alert color="green"
        >The hold stands, on {plural(placed.rows, "live row")}. Whatever was being removed has ended, and
        nothing that it protects is removed from now on.</Alert>
      <Button size="sm" onclick={done}>Good</Button>
    {:else}
      <div class="grid gap-3 sm:grid-cols-2">
        <Label
          >Source<Select
            size="sm"
            id="hold-source"
            items={names(sources.data?.items)}
            bind:value={source} /></Label>
        <Label
          >Table<Select
            size="sm"
            id="hold-table"
            items={names(tables.data?.items)}
            bind:value={table}
            onchange={typed} /></Label>
      </div>
      <Label
        >Which rows<Input
          size="sm"
          id="hold-where"
          class="font-mono"
          bind:value={where}
          oninput={typed}
          placeholder="a condition, like booking_id = 4711; TRUE holds the whole table"
          spellcheck="false" /></Label>
      {#each checked?.problems ?? [] as p, i (i)}<pre
          class="overflow-x-auto text-xs text-red-700 dark:text-red-400">{p.message}{p.remedy
            ? `; ${p.remedy}`
            : ""}{p.excerpt ? "\n" + p.excerpt : ""}</pre>{/each}
      <div class="grid gap-3 sm:grid-cols-2">
        <Label>Reference of the case<Input size="sm" id="hold-reference" bind:value={reference} /></Label>
        <Label>Reason<Input size="sm" id="hold-reason" bind:value={reason} /></Label>
      </div>
      <Button
        size="sm"
        type="submit"
        disabled={busy || !table || !where || !reference || !reason || (checked?.problems.length ?? 0) > 0}
        >{busy ? "Waiting for what is being removed …" : "Place the hold"}</Button>
    {/if}
  </form>
</Panel>

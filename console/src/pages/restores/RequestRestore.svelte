<script lang="ts">
  import { push, router } from "svelte-spa-router";
  import { Button, Input, Label, Radio, Select } from "flowbite-svelte";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  const asked = new URLSearchParams(router.querystring ?? "");
  let kind = $state(asked.get("segment") ? "segment" : asked.get("run") ? "run" : "span");
  let segment = $state(asked.get("segment") ?? "");
  let run = $state(asked.get("run") ?? "");
  let table = $state("");
  let from = $state("");
  let to = $state("");
  let target = $state("table");
  let format = $state("csv");
  let note = $state("");
  let problem = $state<Problem>();
  let busy = $state(false);

  const segments = new Loader(() => take(api.GET("/segments", { params: { query: { limit: 500, state: "closed" } } })));
  segments.load();
  let closed = $derived(segments.data?.items ?? []);
  const unique = (list: string[]) => [...new Set(list)].map((name) => ({ value: name, name }));
  let tables = $derived(unique(closed.map((s) => `${s.source}.${s.table}`)));
  let runs = $derived(unique(closed.map((s) => s.run)));

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    problem = undefined;
    const body: Schemas["RestoreRequest"] = { scope: {}, target, note };
    if (target === "file") body.format = format;
    if (kind === "segment") body.scope.segment = segment;
    else if (kind === "run") body.scope.run = run;
    else {
      const dot = table.indexOf(".");
      Object.assign(body, { source: table.slice(0, dot), table: table.slice(dot + 1), scope: { ...(from && { from }), ...(to && { to }) } });
    }
    try {
      await take(api.POST("/restores", { body }));
      push("/restores");
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<Page title="Request a restore" about="Each segment is verified as a whole before a row of it is given back." back={{ href: "#/restores", text: "Restores" }}>
  <Trouble problem={segments.problem ?? problem} />
  {#if segments.data}<!-- a choice that is given with the address needs its options to be there -->
  <Panel class="max-w-2xl">
    <form onsubmit={submit} class="space-y-4 p-4">
      <fieldset class="space-y-2">
        <legend class="mb-1 text-sm font-semibold">Which rows</legend>
        <div class="flex gap-6"><Radio name="kind" value="span" bind:group={kind}>a span of time</Radio><Radio name="kind" value="run" bind:group={kind}>a run</Radio><Radio name="kind" value="segment" bind:group={kind}>a segment</Radio></div>
        {#if kind === "span"}
          <Label for="table">Table</Label><Select id="table" items={tables} bind:value={table} placeholder="choose a table" required />
          <div class="grid grid-cols-2 gap-3">
            <div class="space-y-1"><Label for="from">From this day on (UTC)</Label><Input id="from" type="date" bind:value={from} /></div>
            <div class="space-y-1"><Label for="to">To before this day (UTC)</Label><Input id="to" type="date" bind:value={to} /></div>
          </div>
        {:else if kind === "run"}
          <Label for="run">Run</Label><Select id="run" items={runs} bind:value={run} placeholder="choose a run" required />
        {:else}
          <Label for="segment">Segment</Label><Select id="segment" items={closed.map((s) => ({ value: s.id, name: `${s.source}.${s.table}, ${s.oldest.slice(0, 10)} to ${s.newest.slice(0, 10)} (${s.id.slice(-8)})` }))} bind:value={segment} placeholder="choose a segment" required />
        {/if}
      </fieldset>
      <fieldset class="space-y-2">
        <legend class="mb-1 text-sm font-semibold">Where to</legend>
        <div class="flex gap-6"><Radio name="target" value="table" bind:group={target}>into their table</Radio><Radio name="target" value="file" bind:group={target}>into a file</Radio></div>
        {#if target === "file"}
          <Label for="format">Format</Label><Select id="format" items={[{ value: "csv", name: "CSV" }, { value: "ndjson", name: "JSON, a line a row" }, { value: "parquet", name: "Parquet" }]} bind:value={format} />
        {:else}
          <p class="text-sm text-gray-600 dark:text-gray-400">A row whose key is in the table already is skipped and counted. Any other conflict stops the restore.</p>
        {/if}
      </fieldset>
      <div class="space-y-1"><Label for="note">Who asked, and why</Label><Input id="note" bind:value={note} /></div>
      <Button type="submit" disabled={busy}>Request the restore</Button>
    </form>
  </Panel>
  {/if}
</Page>

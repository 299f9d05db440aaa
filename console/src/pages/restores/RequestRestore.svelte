<script lang="ts">
  import { push, router } from "svelte-spa-router";
  import { Button, Input, Label, Radio, Select } from "flowbite-svelte";
  import { api, archivedTables, take, type Problem, type Schemas } from "../../api/client";
  import { count, plural, size } from "../../lib/format";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Cold from "../../lib/Cold.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  const asked = new URLSearchParams(router.querystring ?? "");
  const picked: string[] = asked.get("rows") ? JSON.parse(sessionStorage.getItem("picked") ?? "[]") : [];
  let kind = $state(picked.length ? "rows" : asked.get("segment") ? "segment" : asked.get("run") ? "run" : "span");
  let segment = $state(asked.get("segment") ?? "");
  let run = $state(asked.get("run") ?? "");
  let table = $state("");
  let where = $state("");
  let from = $state("");
  let to = $state("");
  let target = $state("table");
  let format = $state("csv");
  let conflicts = $state("skip");
  let side = $state("");
  let lasts = $state("");
  let priority = $state("normal");
  let tell = $state("");
  let preview = $state<Schemas["RestorePreview"]>();
  let note = $state("");
  let problem = $state<Problem>();
  let busy = $state(false);

  const segments = new Loader(() => take(api.GET("/segments", { params: { query: { limit: 500, state: "closed" } } })));
  segments.load();
  let closed = $derived(segments.data?.items ?? []);
  const unique = (list: string[]) => [...new Set(list)].map((name) => ({ value: name, name }));
  const archived = new Loader(archivedTables);
  archived.load();
  let tables = $derived((archived.data?.items ?? []).map((t) => `${t.source}.${t.table}`).map((name) => ({ value: name, name })));
  let choices = $derived([
    ...(segment && !closed.some((s) => s.id === segment) ? [{ value: segment, name: segment }] : []),
    ...closed.map((s) => ({ value: s.id, name: `${s.source}.${s.table}, ${s.oldest.slice(0, 10)} to ${s.newest.slice(0, 10)} (${s.id.slice(-8)})` })),
  ]);
  let runs = $derived(unique([...(run ? [run] : []), ...closed.map((s) => s.run)])); // the newest, and the one that was asked for

  // What was shown is of another request as soon as a field changes.
  $effect(() => { void [kind, segment, run, table, where, from, to, target, conflicts, side]; preview = undefined; });

  function request(): Schemas["RestoreRequest"] {
    const body: Schemas["RestoreRequest"] = { scope: {}, target, note };
    if (tell) body.tell = tell;
    if (preview?.cold) body.priority = priority;
    if (target === "file") body.format = format;
    if (target === "table") body.conflicts = conflicts;
    if (target === "table" && lasts && conflicts !== "replace") body.for = lasts;
    if (target === "side" && side) body.target_table = side;
    if (kind === "rows") body.scope.rows = picked.map((p) => { const [segment, ordinal] = p.split(":"); return { segment, ordinal: Number(ordinal) }; });
    else if (kind === "segment") body.scope.segment = segment;
    else if (kind === "run") body.scope.run = run;
    else {
      const dot = table.indexOf(".");
      Object.assign(body, { source: table.slice(0, dot), table: table.slice(dot + 1), scope: { ...(where && { where }), ...(from && { from }), ...(to && { to }), ...(!where && !from && !to && { all: true }) } });
    }
    return body;
  }
  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    problem = undefined;
    try {
      if (!preview) preview = await take(api.POST("/restores/preview", { body: request() }));
      else {
        await take(api.POST("/restores", { body: request() }));
        push("/restores");
      }
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<Page title="Request a restore" about="Each segment is verified as a whole before a row of it is given back." back={{ href: "#/restores", text: "Restores" }}>
  <Trouble problem={segments.problem ?? archived.problem ?? problem} />
  {#if segments.data && archived.data}<!-- a choice that is given with the address needs its options to be there -->
  <Panel class="max-w-2xl">
    <form onsubmit={submit} class="space-y-4 p-4">
      <fieldset class="space-y-2">
        <legend class="mb-1 text-sm font-semibold">Which rows</legend>
        <div class="flex gap-6">{#if picked.length}<Radio name="kind" value="rows" bind:group={kind}>{plural(picked.length, "picked row")}</Radio>{/if}<Radio name="kind" value="span" bind:group={kind}>a condition or span of time</Radio><Radio name="kind" value="run" bind:group={kind}>a run</Radio><Radio name="kind" value="segment" bind:group={kind}>a segment</Radio></div>
        {#if kind === "span"}
          <Label for="table">Table</Label><Select id="table" items={tables} bind:value={table} placeholder="choose a table" required />
          <div class="space-y-1"><Label for="where">Condition</Label><Input id="where" class="font-mono" bind:value={where} placeholder="like booking_id = 4711; nothing: every row" spellcheck="false" /></div>
          <div class="grid grid-cols-2 gap-3">
            <div class="space-y-1"><Label for="from">From this day on (UTC)</Label><Input id="from" type="date" bind:value={from} /></div>
            <div class="space-y-1"><Label for="to">To before this day (UTC)</Label><Input id="to" type="date" bind:value={to} /></div>
          </div>
        {:else if kind === "run"}
          <Label for="run">Run</Label><Select id="run" items={runs} bind:value={run} placeholder="choose a run" required />
        {:else if kind === "segment"}
          <Label for="segment">Segment</Label><Select id="segment" items={choices} bind:value={segment} placeholder="choose a segment" required />
        {/if}
      </fieldset>
      <fieldset class="space-y-2">
        <legend class="mb-1 text-sm font-semibold">Where to</legend>
        <div class="flex gap-6"><Radio name="target" value="table" bind:group={target}>into their table</Radio><Radio name="target" value="side" bind:group={target}>into a side table</Radio><Radio name="target" value="file" bind:group={target}>into a file</Radio></div>
        {#if target === "file"}
          <Label for="format">Format</Label><Select id="format" items={[{ value: "csv", name: "CSV" }, { value: "csv-safe", name: "CSV for spreadsheets: no text is a formula" }, { value: "ndjson", name: "JSON, a line a row" }, { value: "parquet", name: "Parquet" }]} bind:value={format} />
        {:else if target === "side"}
          <div class="space-y-1"><Label for="side">Name of the new table</Label><Input id="side" class="font-mono" bind:value={side} placeholder="the table's own and the time" spellcheck="false" /></div>
          <p class="text-sm text-gray-600 dark:text-gray-400">A new table beside the old one, with columns and key as they were then. Nothing else is touched; drop it when you are done.</p>
        {:else}
          <div class="space-y-1"><Label for="conflicts">Rows whose key is in the table already</Label><Select id="conflicts" items={[{ value: "skip", name: "are skipped and counted" }, { value: "fail", name: "stop the restore before anything is written" }, { value: "replace", name: "are replaced; what was there is kept in a file" }]} bind:value={conflicts} /></div>
          {#if conflicts !== "replace"}<div class="space-y-1"><Label for="lasts">They stay</Label><Select id="lasts" items={[{ value: "", name: "for good" }, ...[1, 2, 7, 30].map((n) => ({ value: `P${n}D`, name: `for ${plural(n, "day")}, then go again unless they were changed` }))]} bind:value={lasts} placeholder="" /></div>{/if}
          <p class="text-sm text-gray-600 dark:text-gray-400">Any other conflict stops the restore.</p>
        {/if}
      </fieldset>
      <div class="space-y-1"><Label for="note">Who asked, and why</Label><Input id="note" bind:value={note} /></div>
      <div class="space-y-1"><Label for="tell">Who is told when it is ready</Label><Input id="tell" bind:value={tell} placeholder="a mail address, or a URL; nobody if left out" spellcheck="false" /></div>
      {#if preview}
        <div class="rounded border border-gray-200 px-3 py-2 text-sm dark:border-gray-700" role="status" data-testid="preview">
          <p><b>{plural(preview.rows, "row")}</b> of {preview.source}.{preview.table}, in {plural(preview.segments, "segment")} ({size(preview.bytes)}), go into {preview.into}.</p>
          {#if target === "table"}<p>{preview.untold ? "The table has no key, so nobody can tell which of them are there already." : `The keys of ${count(preview.conflicts)} of them are in the table already.`}</p>{/if}
          {#if preview.stale}<p>{plural(preview.stale, "further row")} of which a newer version is archived {preview.stale === 1 ? "is" : "are"} left out.</p>{/if}
          {#if preview.triggers.length}<p>Triggers that fire for each row: {preview.triggers.join(", ")}.</p>{/if}
          {#if preview.approval}<p>Somebody has to approve it before it is carried out.</p>{/if}
        </div>
        {#if preview.cold}
          <Cold cold={preview.cold} />
          <div class="space-y-1"><Label for="priority">Retrieved at</Label><Select id="priority" items={["low", "normal", "high"].map((p) => ({ value: p, name: `${p} priority` }))} bind:value={priority} placeholder="" /></div>
        {/if}
      {/if}
      <Button type="submit" disabled={busy || (preview?.rows === 0 && !preview.cold)}>{preview ? (preview.cold ? "Retrieve and restore" : `Restore ${plural(preview.rows, "row")}`) : busy ? "Looking …" : "See what comes back"}</Button>
    </form>
  </Panel>
  {/if}
</Page>

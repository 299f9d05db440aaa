<script lang="ts">
  // Destroying segments whose time in the archive is over, or single rows on request: found out first, decided on, then done, and certified.
  import { Button, Input, Label, Select, TableBodyCell, TableBodyRow } from "flowbite-svelte";
  import { api, archivedTables, take, type Problem, type Schemas } from "../../api/client";
  import { age, count, plural, share, short, size } from "../../lib/format";
  import { every, Loader, Pages, problemOf } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  const pages = new Pages();
  const disposals = new Loader(() => take(api.GET("/disposals", { params: { query: { limit: 50, after: pages.after } } })));
  let wanted = ""; // what is typed of a rule's name
  let chosen = false; // one was proposed
  const rules = new Loader(() => take(api.GET("/rules", { params: { query: { limit: 50, text: wanted } } })));
  const kept = new Loader(archivedTables);
  rules.load();
  kept.load();
  let archived = $derived((kept.data?.items ?? []).map((t) => `${t.source}.${t.table}`).map((t) => ({ value: t, name: t })));
  let opened = false;
  $effect(() => { void pages.after; return every(1500, async () => {
    await disposals.load();
    const newest = disposals.data?.items[0];
    if (newest && !opened && ["planned", "running", "failed"].includes(newest.state)) open ||= newest.id; // it waits for somebody
    opened = true;
  }); });
  let governing = $derived((rules.data?.items ?? []).filter((r) => r.body.archive?.store).map((r) => r.name));
  let rule = $state("");
  let note = $state("");
  let table = $state("");
  let where = $state("");
  let why = $state("");
  let open = $state("");
  let deciding = $state("");
  let typed = $state("");
  let problem = $state<Problem>();
  let busy = $state(false);
  let none = $state(false); // rule archives
  $effect(() => {
    if (!rules.data || wanted) return;
    none = governing.length === 0;
    if (!chosen) rule = governing[0] ?? "";
    chosen = true;
  });
  async function suggest() {
    wanted = rule;
    await rules.load();
  }
  $effect(() => { table ||= archived[0]?.value ?? ""; });

  async function doing(what: () => Promise<unknown>) {
    busy = true;
    problem = undefined;
    try {
      await what();
    } catch (e) {
      problem = problemOf(e);
    }
    await disposals.load();
    busy = false;
  }
  const plan = () => doing(async () => {
    open = (await take(api.POST("/disposals", { body: { rule, note } }))).id;
  });
  const erase = () => doing(async () => {
    const [source, ...name] = table.split(".");
    open = (await take(api.POST("/erasures", { body: { source: source ?? "", table: name.join("."), where, note: why } }))).id;
    where = why = "";
  });
  const start = (id: string) => doing(async () => {
    await take(api.POST("/disposals/{disposal}/start", { params: { path: { disposal: id } } }));
    deciding = typed = "";
  });
  const approve = (id: string) => doing(() => take(api.POST("/disposals/{disposal}/approve", { params: { path: { disposal: id } } })));
  const cancel = (id: string) => doing(() => take(api.POST("/disposals/{disposal}/cancel", { params: { path: { disposal: id } } })));
  let one = $state<Schemas["Disposal"]>(); // that is open, with the first of what stays
  let segments = $state<Schemas["ItemsOfPlacedItem"]>(); // a page of those that it is to destroy
  const within = new Pages();
  async function look() {
    if (!open) return (one = segments = undefined);
    const id = open, after = within.after;
    const path = { disposal: id };
    const [d, page] = await Promise.all([take(api.GET("/disposals/{disposal}", { params: { path } })), take(api.GET("/disposals/{disposal}/segments", { params: { path, query: { limit: 50, after } } }))]);
    if (open === id && after === within.after) [one, segments] = [d, page];
  }
  $effect(() => { void open; void disposals.data; look().catch((e) => (problem = problemOf(e))); });
  const certificate = (id: string, format: string) => `/api/v1/disposals/${encodeURIComponent(id)}/certificate?format=${format}`;
</script>

<Page title="Disposals" about="Archived rows are destroyed when their time in the archive is over, or on request, by somebody's decision, and a certificate remains.">
  <Trouble problem={disposals.problem ?? rules.problem ?? kept.problem ?? problem} />
  <Panel title="What is due">
    {#if none}
      <Blank title="No rule archives">Only segments of a rule with <code>archive.keep</code> are ever destroyed.</Blank>
    {:else}
      <form class="grid items-end gap-3 p-4 sm:grid-cols-[14rem_1fr_auto]" onsubmit={(e) => { e.preventDefault(); plan(); }}>
        <Label>Rule<Input size="sm" id="disposal-rule" list="disposal-rules" bind:value={rule} oninput={suggest} autocomplete="off" /></Label>
        <datalist id="disposal-rules">{#each governing as name (name)}<option value={name}></option>{/each}</datalist>
        <Label>Note, for the certificate<Input size="sm" id="disposal-note" bind:value={note} /></Label>
        <Button size="sm" type="submit" disabled={busy || !rule}>Find out; nothing is destroyed</Button>
      </form>
    {/if}
  </Panel>
  {#if archived.length}
    <Panel title="Erase rows on request" note="of one person, whatever their time; holds stand above it">
      <form class="grid items-end gap-3 p-4 sm:grid-cols-[12rem_1fr_1fr_auto]" onsubmit={(e) => { e.preventDefault(); erase(); }}>
        <Label>Table<Select size="sm" id="erasure-table" items={archived} bind:value={table} /></Label>
        <Label>Rows<Input size="sm" id="erasure-where" placeholder="like passenger_id = 7" class="placeholder:text-gray-400" bind:value={where} autocomplete="off" /></Label>
        <Label>Note; it stays, so name nobody<Input size="sm" id="erasure-note" bind:value={why} /></Label>
        <Button size="sm" type="submit" disabled={busy || !table || !where}>Find such rows; nothing is destroyed</Button>
      </form>
    </Panel>
  {/if}
  <Panel>
    <Listing label="Disposals" heads={["Table", "Rule", "State", "#Segments", "#Rows", "#Size", "Planned", "Decided", ""]} items={disposals.data?.items}>
      {#snippet row(d: Schemas["Disposal"])}
        <TableBodyRow>
          <TableBodyCell>{d.source}.{d.table}</TableBodyCell>
          <TableBodyCell>{#if d.kind === "erasure"}erasure{#if d.erases} <code class="block text-xs text-gray-500 dark:text-gray-400">{d.erases}</code>{/if}{:else}<a class="text-link" href="#/rules/{d.rule}">{d.rule}</a> <span class="text-xs text-gray-500 dark:text-gray-400">revision {d.revision}, {d.keep}</span>{/if}</TableBodyCell>
          <TableBodyCell><span title={d.reason}><State state={d.state} /></span></TableBodyCell>
          <TableBodyCell class="text-right">{count(d.segments)}</TableBodyCell>
          <TableBodyCell class="text-right">{count(d.rows)}</TableBodyCell>
          <TableBodyCell class="text-right">{size(d.bytes)}</TableBodyCell>
          <TableBodyCell><When at={d.created_at} day /></TableBodyCell>
          <TableBodyCell>{#if d.decided_at}<When at={d.decided_at} day /><div class="text-xs text-gray-500 dark:text-gray-400">by {d.decided_by}</div>{:else}–{/if}</TableBodyCell>
          <TableBodyCell class="text-right"><button class="text-link text-xs" aria-expanded={open === d.id} onclick={() => { within.reset(); open = open === d.id ? "" : d.id; }}>{open === d.id ? "less" : "more"}</button></TableBodyCell>
        </TableBodyRow>
        {#if open === d.id}
          <TableBodyRow><td colspan="9" class="space-y-3 px-4 py-3 text-sm" data-testid="disposal">
            {#if d.reason}<p class={d.state === "failed" ? "text-red-700 dark:text-red-400" : ""} role={d.state === "failed" ? "alert" : undefined}>{d.reason}</p>{/if}
            {#if d.state === "running"}<Bar percent={share(d.gone, d.segments)} label="progress of the disposal" />{/if}
            {#if d.segments}
              {@const items = one?.id === d.id ? (segments?.items ?? []) : []}
              <table class="w-full text-left text-xs">
                <thead class="text-gray-500 dark:text-gray-400"><tr><th class="py-1 font-medium">Segment</th><th class="text-right font-medium">Rows</th><th class="text-right font-medium">File</th><th class="ps-4 font-medium">Ages</th><th class="font-medium">Time over</th><th class="font-medium">What becomes of it</th></tr></thead>
                <tbody>
                  {#each items as x (x.segment)}
                    <tr class="border-t border-gray-100 dark:border-gray-700/60"><td class="py-1"><a class="text-link font-mono" href="#/archive/{x.segment}" title={x.segment}>{short(x.segment)}</a></td><td class="text-right">{count(x.rows)}</td><td class="text-right">{size(x.bytes)}</td><td class="ps-4">{age(x.oldest).slice(0, 10)} to {age(x.newest).slice(0, 10)}</td><td><When at={x.due} day /></td>
                      <td>{#if x.destroyed}destroyed <When at={x.destroyed} />{:else if x.left}left: {x.left}{:else if d.state === "cancelled"}stays{:else}goes, from {x.stores.join(" and ")}{/if}{#each x.remains ?? [] as left (left)}<div class="text-amber-800 dark:text-amber-300">what may hold it still: {left}</div>{/each}{#if x.kept}<div title={x.why}>{count(x.kept)} of its rows stay{#if x.successor}, in <a class="text-link font-mono" href="#/archive/{x.successor}" title={x.successor}>{short(x.successor)}</a>{/if}: {x.why}</div>{/if}</td></tr>
                  {/each}
                </tbody>
              </table>
            {:else}<p class="text-gray-600 dark:text-gray-400">{d.kind === "erasure" ? "No segment holds such rows that could be erased." : "No segment may be destroyed yet."}</p>{/if}
            <Pager pages={within} next={segments?.next} back="Older" on="Newer" />
            {#if d.staying}
              <details><summary class="cursor-pointer text-gray-600 dark:text-gray-400">What stays of the table: {plural(d.staying, "segment")}</summary>
                <ul class="mt-1 space-y-0.5 text-xs">{#each one?.id === d.id ? one.stays : [] as x (x.segment)}<li><a class="text-link font-mono" href="#/archive/{x.segment}" title={x.segment}>{short(x.segment)}</a>: {x.reason}</li>{/each}{#if one?.id === d.id && d.staying > one.stays.length}<li>and {count(d.staying - one.stays.length)} more; <code>ambercellar disposal show {d.id}</code> lists all</li>{/if}</ul>
              </details>
            {/if}
            <div class="flex flex-wrap items-center gap-3">
              {#if d.state === "planned" || d.state === "failed"}
                {#if deciding === d.id}
                  <form class="flex flex-wrap items-center gap-2" onsubmit={(e) => { e.preventDefault(); start(d.id); }}>
                    <Label for="confirm-{d.id}">This cannot be taken back. To destroy {plural(d.rows, "row")}, type the table's name, <b>{d.table}</b>:</Label>
                    <Input size="sm" class="w-48" id="confirm-{d.id}" bind:value={typed} autocomplete="off" />
                    <Button size="xs" color="red" type="submit" disabled={busy || typed !== d.table}>Destroy them</Button>
                    <Button size="xs" color="alternative" onclick={() => (deciding = typed = "")}>Not now</Button>
                  </form>
                {:else}
                  {#if d.state === "planned" && d.segments && !d.approved_at}<Button size="xs" color="alternative" disabled={busy} onclick={() => approve(d.id)}>Approve</Button>{/if}
                  {#if d.segments}<Button size="xs" color="red" onclick={() => (deciding = d.id)}>{d.state === "failed" ? "Go on …" : "Destroy …"}</Button>{/if}
                  <Button size="xs" color="alternative" disabled={busy} onclick={() => cancel(d.id)}>Decide against it</Button>
                {/if}
              {/if}
              {#if d.state === "done"}<a class="text-link" href={certificate(d.id, "pdf")} download>Certificate as PDF</a> <a class="text-link" href={certificate(d.id, "json")} download="certificate-{d.id}.json">as JSON</a>{/if}
              {#if d.approved_at}<span class="text-gray-600 dark:text-gray-400">approved by {d.approved_by}, <When at={d.approved_at} day /></span>{/if}
              {#if d.note}<span class="text-gray-600 dark:text-gray-400">{d.note}</span>{/if}
            </div>
          </td></TableBodyRow>
        {/if}
      {/snippet}
      {#snippet empty()}<Blank title="Nothing was disposed of yet">Segments stay at least as long as <code>archive.keep</code> of their rule says, and until somebody decides that they go.</Blank>{/snippet}
    </Listing>
  </Panel>
  <Pager {pages} next={disposals.data?.next} />
</Page>

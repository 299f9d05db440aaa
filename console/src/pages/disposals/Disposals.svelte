<script lang="ts">
  // Destroying segments whose time in the archive is over, or single rows on request: found out first, decided on,
  // then done, and certified.
  import { Input, Label, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, archivedTables, take, type Problem, type Schemas } from "../../api/client";
  import { count, size } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, Pages, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import EraseRows from "./EraseRows.svelte";
  import DisposalDetail from "./DisposalDetail.svelte";

  const pages = new Pages();
  const disposals = new Loader(() =>
    take(api.GET("/disposals", { params: { query: { limit: 50, after: pages.after } } }))
  );
  let wanted = ""; // what is typed of a rule's name
  let chosen = false; // one was proposed
  const rules = new Loader(() => take(api.GET("/rules", { params: { query: { limit: 50, text: wanted } } })));
  const kept = new Loader(archivedTables);
  rules.load();
  kept.load();
  let archived = $derived(
    (kept.data?.items ?? []).map((t) => `${t.source}.${t.table}`).map((t) => ({ value: t, name: t }))
  );
  let opened = false;
  $effect(() => {
    void pages.after;
    return whenChanged(async () => {
      await disposals.load();
      const newest = disposals.data?.items[0];
      // One that waits for somebody is shown.
      if (newest && !opened && ["planned", "running", "failed"].includes(newest.state)) open ||= newest.id;
      opened = true;
    });
  });
  let governing = $derived((rules.data?.items ?? []).filter((r) => r.body.archive?.store).map((r) => r.name));
  let rule = $state("");
  let note = $state("");
  let open = $state("");
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
  /** doing says whether it was done; why not is shown. */
  async function doing(what: () => Promise<unknown>): Promise<boolean> {
    busy = true;
    problem = undefined;
    try {
      await what();
    } catch (e) {
      problem = problemOf(e);
    }
    await disposals.load();
    busy = false;
    return !problem;
  }
  const plan = () =>
    doing(async () => {
      open = (await take(api.POST("/disposals", { body: { rule, note } }))).id;
    });
  const erase = (body: Schemas["ErasureRequest"]) =>
    doing(async () => {
      open = (await take(api.POST("/erasures", { body }))).id;
    });
  const start = (id: string) =>
    doing(() => take(api.POST("/disposals/{disposal}/start", { params: { path: { disposal: id } } })));
  const approve = (id: string) =>
    doing(() => take(api.POST("/disposals/{disposal}/approve", { params: { path: { disposal: id } } })));
  const cancel = (id: string) =>
    doing(() => take(api.POST("/disposals/{disposal}/cancel", { params: { path: { disposal: id } } })));
  let one = $state<Schemas["Disposal"]>(); // that is open, with the first of what stays
  let segments = $state<Schemas["ItemsOfPlacedItem"]>(); // a page of those that it is to destroy
  const within = new Pages();
  async function look() {
    if (!open) return (one = segments = undefined);
    const id = open,
      after = within.after;
    const path = { disposal: id };
    const [d, page] = await Promise.all([
      take(api.GET("/disposals/{disposal}", { params: { path } })),
      take(api.GET("/disposals/{disposal}/segments", { params: { path, query: { limit: 50, after } } }))
    ]);
    if (open === id && after === within.after) [one, segments] = [d, page];
  }
  $effect(() => {
    void open;
    void disposals.data;
    look().catch((e) => (problem = problemOf(e)));
  });
</script>

<Page
  title="Disposals"
  about="Destroys rows whose time in the archive is over, or on request. Somebody decides; a certificate remains.">
  <Trouble problem={disposals.problem ?? rules.problem ?? kept.problem ?? problem} />
  <Panel title="What is due">
    {#if none}
      <Blank title="No rule archives"
        >Only segments of a rule with <code>archive.keep</code> are ever destroyed.</Blank>
    {:else}
      <form
        class="grid items-end gap-3 p-4 sm:grid-cols-[14rem_1fr_auto]"
        onsubmit={(e) => {
          e.preventDefault();
          plan();
        }}>
        <Label
          >Rule<Input
            size="sm"
            id="disposal-rule"
            list="disposal-rules"
            bind:value={rule}
            oninput={suggest}
            autocomplete="off" /></Label>
        <datalist id="disposal-rules"
          >{#each governing as name (name)}<option value={name}></option>{/each}</datalist>
        <Label>Note, for the certificate<Input size="sm" id="disposal-note" bind:value={note} /></Label>
        <Act right="operate" any size="sm" type="submit" disabled={busy || !rule}
          >Find out; nothing is destroyed</Act>
      </form>
    {/if}
  </Panel>
  {#if archived.length}<EraseRows {archived} {busy} {erase} />{/if}
  <Panel>
    <Listing
      label="Disposals"
      heads={["Table", "Rule", "State", "#Segments", "#Rows", "#Size", "Planned", "Decided", ""]}
      items={disposals.data?.items}>
      {#snippet row(d: Schemas["Disposal"])}
        <TableBodyRow>
          <TableBodyCell>{d.source}.{d.table}</TableBodyCell>
          <TableBodyCell
            >{#if d.kind === "erasure"}erasure{#if d.erases}
                <code class="block text-xs text-gray-500 dark:text-gray-400">{d.erases}</code>{/if}{:else}<a
                class="text-link"
                href="#/rules/{d.rule}">{d.rule}</a>
              <span class="text-xs text-gray-500 dark:text-gray-400">revision {d.revision}, {d.keep}</span
              >{/if}</TableBodyCell>
          <TableBodyCell><span title={d.reason}><State state={d.state} /></span></TableBodyCell>
          <TableBodyCell class="text-right">{count(d.segments)}</TableBodyCell>
          <TableBodyCell class="text-right">{count(d.rows)}</TableBodyCell>
          <TableBodyCell class="text-right">{size(d.bytes)}</TableBodyCell>
          <TableBodyCell><When at={d.created_at} day /></TableBodyCell>
          <TableBodyCell
            >{#if d.decided_at}<When at={d.decided_at} day />
              <div class="text-xs text-gray-500 dark:text-gray-400">
                by {d.decided_by}
              </div>{:else}–{/if}</TableBodyCell>
          <TableBodyCell class="text-right"
            ><button
              class="text-link text-xs"
              aria-expanded={open === d.id}
              onclick={() => {
                within.reset();
                open = open === d.id ? "" : d.id;
              }}>{open === d.id ? "less" : "more"}</button
            ></TableBodyCell>
        </TableBodyRow>
        {#if open === d.id}
          <TableBodyRow
            ><td colspan="9" class="space-y-3 px-4 py-3 text-sm" data-testid="disposal">
              <DisposalDetail {d} {one} {segments} pages={within} {busy} {start} {approve} {cancel} />
            </td></TableBodyRow>
        {/if}
      {/snippet}
      {#snippet empty()}<Blank title="Nothing was disposed of yet"
          >Segments stay at least as long as <code>archive.keep</code> of their rule says, and until somebody decides
          that they go.</Blank
        >{/snippet}
    </Listing>
  </Panel>
  <Pager {pages} next={disposals.data?.next} />
</Page>

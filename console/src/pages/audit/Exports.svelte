<script lang="ts">
  // Exports that the service makes in the background, of what is shown: how far they are, their files, and schedules.
  import { Button, Input, Label, Select, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, share, size } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import Schedules from "./Schedules.svelte";
  import { inWords } from "./query";

  let { query }: { query: Record<string, string | undefined> } = $props();
  type Export = Schemas["AuditExport"];
  let format = $state("csv");
  let tell = $state("");
  let problem = $state<Problem>();
  const list = new Loader(() => take(api.GET("/audit/exports", { params: { query: { limit: 20 } } })));
  $effect(() => whenChanged(() => list.load()));
  let goesOn = $derived(list.data?.items.some((x) => x.state === "waiting" || x.state === "working"));
  $effect(() => {
    if (!goesOn) return;
    const again = setInterval(() => list.load(), 1000);
    return () => clearInterval(again);
  });
  const formats = ["csv", "ndjson", "xml", "pdf"].map((v) => ({ value: v, name: v.toUpperCase() }));

  async function act(what: () => Promise<unknown>) {
    problem = undefined;
    try {
      await what();
      await list.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  const meant = () => {
    const { actor, kind, subject, outcome, from, to } = query;
    return { actor, kind, subject, outcome, from, to };
  };
  const make = () =>
    act(() =>
      take(api.POST("/audit/exports", { body: { format, tell: tell.trim() || undefined, ...meant() } }))
    );
  const discard = (x: Export) =>
    act(() => take(api.DELETE("/audit/exports/{export}", { params: { path: { export: x.id } } })));
  const percent = (x: Export) => (x.of ? Math.min(share(x.done, x.of), 100) : 0);
</script>

<Panel title="Exports" note="a zip of entries and details, of any length, made by the service">
  <Trouble problem={problem ?? list.problem} />
  <form
    class="flex flex-wrap items-end gap-3 px-4 py-3"
    onsubmit={(e) => {
      e.preventDefault();
      make();
    }}>
    <Label>Format<Select size="sm" class="w-28 py-1" items={formats} bind:value={format} /></Label>
    <Label>Mail when it is done<Input size="sm" class="w-64" placeholder="nobody" bind:value={tell} /></Label>
    <Button size="sm" type="submit">Export what is shown</Button>
    <p class="text-xs text-gray-600 dark:text-gray-400">{inWords(query)}</p>
  </form>
  <Listing
    label="Exports"
    heads={["Asked", "Which", "Format", "State", "#Entries", "#Size", "File", ""]}
    items={list.data?.items}>
    {#snippet row(x: Export)}
      <TableBodyRow>
        <TableBodyCell><When at={x.made_at} /><br />{x.by}</TableBodyCell>
        <TableBodyCell class="max-w-64 whitespace-normal"
          >{inWords(x.filter ?? {})}{#if x.schedule}<br />by schedule {x.schedule}{/if}</TableBodyCell>
        <TableBodyCell>{x.format}</TableBodyCell>
        <TableBodyCell class="max-w-64 whitespace-normal">
          {#if x.state === "working"}<Bar percent={percent(x)} label="export {x.id}" />
          {:else}<State state={x.state} />{/if}
          {#if x.problem}<p class="text-xs">{x.problem}</p>{/if}
        </TableBodyCell>
        <TableBodyCell class="text-right">{x.state === "done" ? count(x.entries) : ""}</TableBodyCell>
        <TableBodyCell class="text-right">{x.state === "done" ? size(x.bytes) : ""}</TableBodyCell>
        <TableBodyCell>
          {#if x.state === "done"}
            <a class="text-link" href="/api/v1/audit/exports/{x.id}/file" download>Download</a>
            <p class="text-xs text-gray-600 dark:text-gray-400" title={x.sha256}>
              until {#if x.expires_at}<When at={x.expires_at} />{/if}
            </p>
          {/if}
        </TableBodyCell>
        <TableBodyCell>
          {#if x.state !== "gone" && x.state !== "failed"}
            <Button size="xs" color="alternative" onclick={() => discard(x)}
              >{x.state === "done" ? "Discard" : "Cancel"}</Button>
          {/if}
        </TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No export yet" />{/snippet}
  </Listing>
  <Schedules {format} {tell} meant={meant()} />
</Panel>

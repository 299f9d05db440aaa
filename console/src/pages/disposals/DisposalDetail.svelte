<script lang="ts">
  // One disposal: what it destroys, what stays, and what can be decided.
  import { Button, Input, Label } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { plural, share } from "../../lib/format";
  import type { Pages } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Pager from "../../lib/Pager.svelte";
  import When from "../../lib/When.svelte";
  import DisposalSegments from "./DisposalSegments.svelte";
  import DisposalStays from "./DisposalStays.svelte";

  type Doing = (id: string) => Promise<boolean>; // whether it was done
  let {
    d,
    one,
    segments,
    pages,
    busy,
    start,
    approve,
    cancel
  }: {
    d: Schemas["Disposal"];
    one?: Schemas["Disposal"]; // with the first of what stays
    segments?: Schemas["ItemsOfPlacedItem"]; // a page of those that it is to destroy
    pages: Pages;
    busy: boolean;
    start: Doing;
    approve: Doing;
    cancel: Doing;
  } = $props();
  let deciding = $state(false);
  let typed = $state("");
  function notNow() {
    deciding = false;
    typed = "";
  }
  async function decide() {
    if (await start(d.id)) notNow();
  }
  const certificate = (id: string, format: string) =>
    `/api/v1/disposals/${encodeURIComponent(id)}/certificate?format=${format}`;
</script>

{#if d.reason}<p
    class={d.state === "failed" ? "text-red-700 dark:text-red-400" : ""}
    role={d.state === "failed" ? "alert" : undefined}>
    {d.reason}
  </p>{/if}
{#if d.state === "running"}<Bar percent={share(d.gone, d.segments)} label="progress of the disposal" />{/if}
{#if d.segments}
  <DisposalSegments {d} items={one?.id === d.id ? (segments?.items ?? []) : []} />
{:else}<p class="text-gray-600 dark:text-gray-400">
    {d.kind === "erasure"
      ? "No segment holds such rows that could be erased."
      : "No segment may be destroyed yet."}
  </p>{/if}
<Pager {pages} next={segments?.next} back="Older" on="Newer" />
{#if d.staying}<DisposalStays {d} stays={one?.id === d.id ? one.stays : []} />{/if}
<div class="flex flex-wrap items-center gap-3">
  {#if d.state === "planned" || d.state === "failed"}
    {#if deciding}
      <form
        class="flex flex-wrap items-center gap-2"
        onsubmit={(e) => {
          e.preventDefault();
          decide();
        }}>
        <Label for="confirm-{d.id}"
          >This cannot be taken back. To destroy {plural(d.rows, "row")}, type the table's name,
          <b>{d.table}</b>:</Label>
        <Input size="sm" class="w-48" id="confirm-{d.id}" bind:value={typed} autocomplete="off" />
        <Button size="xs" color="red" type="submit" disabled={busy || typed !== d.table}>Destroy them</Button>
        <Button size="xs" color="alternative" onclick={notNow}>Not now</Button>
      </form>
    {:else}
      {#if d.state === "planned" && d.segments && !d.approved_at}<Act
          right="approve"
          source={d.source}
          size="xs"
          color="alternative"
          disabled={busy}
          onclick={() => approve(d.id)}>Approve</Act
        >{/if}
      {#if d.segments}<Act
          right="operate"
          source={d.source}
          size="xs"
          color="red"
          onclick={() => (deciding = true)}>{d.state === "failed" ? "Go on …" : "Destroy …"}</Act
        >{/if}
      <Act
        right="operate"
        source={d.source}
        size="xs"
        color="alternative"
        disabled={busy}
        onclick={() => cancel(d.id)}>Decide against it</Act>
    {/if}
  {/if}
  {#if d.state === "done"}<a class="text-link" href={certificate(d.id, "pdf")} download>Certificate as PDF</a>
    <a class="text-link" href={certificate(d.id, "json")} download="certificate-{d.id}.json">as JSON</a>{/if}
  {#if d.approved_at}<span class="text-gray-600 dark:text-gray-400"
      >approved by {d.approved_by}, <When at={d.approved_at} day /></span
    >{/if}
  {#if d.note}<span class="text-gray-600 dark:text-gray-400">{d.note}</span>{/if}
</div>

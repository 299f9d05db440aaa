<script lang="ts">
  // Who did what: filters, the entries, one of them in full, export, and whether the log holds.
  import { Button, Input, Select, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { whenChanged } from "../../lib/live";
  import { Loader, Pages, problemOf } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import Exports from "./Exports.svelte";
  import Kept from "./Kept.svelte";
  import Verdict from "./Verdict.svelte";
  import { exported, instant } from "./query";

  const pages = new Pages();
  const none = { actor: "", kind: "", subject: "", outcome: "", from: "", to: "" };
  let written = $state({ ...none });
  let sought = $state({ ...none });
  let open = $state(0);
  let checking = $state(false);
  let report = $state<Schemas["AuditReport"]>();
  let problem = $state<Problem>();

  let query = $derived({
    actor: sought.actor.trim() || undefined,
    kind: sought.kind.trim() || undefined,
    subject: sought.subject.trim() || undefined,
    outcome: sought.outcome || undefined,
    from: instant(sought.from),
    to: instant(sought.to, 1)
  });
  const entries = new Loader(() =>
    take(api.GET("/audit", { params: { query: { ...query, limit: 50, after: pages.after } } }))
  );
  $effect(() => {
    void query;
    void pages.after;
    return whenChanged(() => entries.load());
  });
  async function verify() {
    problem = undefined;
    checking = true;
    try {
      report = await take(api.GET("/audit/verification"));
    } catch (e) {
      problem = problemOf(e);
    }
    checking = false;
  }
  const detail = (e: Schemas["Entry"]) =>
    e.erased ? "(erased)" : e.withheld ? "(for those who may see rows)" : e.detail;
</script>

<Page title="Audit" about="Who did what, or wanted to, the newest first.">
  {#snippet actions()}
    <Button size="sm" color="alternative" disabled={checking} onclick={verify}
      >{checking ? "Reading the log …" : "Verify the log"}</Button>
    {#each ["csv", "ndjson", "xml", "pdf"] as format (format)}<Button
        size="sm"
        color="alternative"
        href={exported(format, query)}
        download>{format.toUpperCase()}</Button
      >{/each}
  {/snippet}
  <Trouble problem={problem ?? entries.problem} />
  {#if report}<Verdict {report} />{/if}
  <Panel>
    <form
      class="flex flex-wrap items-center gap-2 px-4 py-2"
      onsubmit={(e) => {
        e.preventDefault();
        pages.reset();
        sought = { ...written };
      }}>
      <div class="w-36">
        <Input size="sm" aria-label="who" placeholder="who" bind:value={written.actor} />
      </div>
      <div class="w-32">
        <Input size="sm" aria-label="kind" placeholder="kind, like run" bind:value={written.kind} />
      </div>
      <div class="w-40">
        <Input size="sm" aria-label="of what" placeholder="of what" bind:value={written.subject} />
      </div>
      <Select
        size="sm"
        class="w-36 py-1"
        aria-label="outcome"
        placeholder="any outcome"
        items={["done", "refused", "failed"].map((v) => ({ value: v, name: v }))}
        clearable
        bind:value={written.outcome} />
      <div class="w-36"><Input size="sm" type="date" aria-label="from" bind:value={written.from} /></div>
      <div class="w-36">
        <Input size="sm" type="date" aria-label="to, that day too" bind:value={written.to} />
      </div>
      <Button size="xs" color="alternative" type="submit">Show</Button>
    </form>
    <Listing
      label="Audit log"
      heads={["Entry", "At", "Who", "From", "Action", "Of", "Outcome", "Detail"]}
      items={entries.data?.items}>
      {#snippet row(e: Schemas["Entry"])}
        <TableBodyRow>
          <TableBodyCell
            ><button
              class="text-link font-mono text-xs"
              aria-expanded={open === e.id}
              onclick={() => (open = open === e.id ? 0 : e.id)}>{e.id}</button
            ></TableBodyCell>
          <TableBodyCell><When at={e.at} /></TableBodyCell>
          <TableBodyCell class="font-medium">{e.actor}</TableBodyCell>
          <TableBodyCell>{e.address}</TableBodyCell>
          <TableBodyCell>{e.action}</TableBodyCell>
          <TableBodyCell class="max-w-36 truncate font-mono text-xs" title={e.subject}
            >{e.subject}</TableBodyCell>
          <TableBodyCell><State state={e.outcome} /></TableBodyCell>
          <TableBodyCell class="max-w-56 truncate" title={detail(e)}>{detail(e)}</TableBodyCell>
        </TableBodyRow>
        {#if open === e.id}
          <TableBodyRow>
            <TableBodyCell colspan={8} class="whitespace-normal">
              <p class="break-words whitespace-pre-wrap">{detail(e) || "nothing was given besides"}</p>
              <p class="mt-1 font-mono text-xs break-all text-gray-500 dark:text-gray-400">
                of {e.subject || "–"}{#if e.session}, session {e.session}{/if}; digest {e.digest}; hash {e.hash}
              </p>
            </TableBodyCell>
          </TableBodyRow>
        {/if}
      {/snippet}
      {#snippet empty()}<Blank title="No such entry" />{/snippet}
    </Listing>
  </Panel>
  <Pager {pages} next={entries.data?.next} />
  <Exports {query} />
  <Kept />
</Page>

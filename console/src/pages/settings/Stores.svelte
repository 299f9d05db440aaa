<script lang="ts">
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, lasting, size } from "../../lib/format";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  import StoreChange from "./StoreChange.svelte";
  import StoreForm from "./StoreForm.svelte";

  let doing = $state<Schemas["StoreView"] | "add">();
  let said = $state("");
  let habits = $state<Schemas["Habit"][]>([]);
  let busy = $state("");
  let problem = $state<Problem>();
  const stores = new Loader(() => take(api.GET("/stores")));
  stores.load();

  function begin(next: typeof doing) {
    problem = undefined;
    said = "";
    habits = [];
    doing = next;
  }
  function end(s: Schemas["StoreKept"], verb: string) {
    begin(undefined);
    said = `Store ${s.name} ${verb}.`;
    stores.load();
  }
  async function check(s: Schemas["StoreView"]) {
    begin(undefined);
    busy = s.name;
    try {
      habits = (await take(api.POST("/stores/{store}/check", { params: { path: { store: s.name } } }))).items;
      said = `Store ${s.name}: a file was written, read back, listed and removed.`;
    } catch (e) {
      problem = problemOf(e);
    }
    busy = "";
  }
  function scrubbed(s: Schemas["StoreView"]) {
    if (!s.scrub.every) return "never by itself";
    return `every ${lasting(s.scrub.every)}${s.scrub.window ? `, ${s.scrub.window} UTC` : ""}`;
  }
  function kind(s: Schemas["StoreView"]) {
    const sealed = s.seal.key_file || s.seal.key_env;
    return [s.kind, sealed && "sealed", s.bucket.class && "cold"].filter(Boolean).join(", ");
  }
</script>

<div class="mb-3 flex items-center gap-3">
  <Act
    right="administer"
    size="sm"
    color={doing === "add" ? "alternative" : "primary"}
    onclick={() => begin(doing === "add" ? undefined : "add")}
    >{doing === "add" ? "Not now" : "Add a store"}</Act>
  <span role="status" class="text-sm">{said}</span>
</div>
<Trouble problem={stores.problem ?? problem} />
{#each habits as h, i (i)}<Warning class="mb-3">{h.message}</Warning>{/each}
{#each stores.data?.items.flatMap((s) => s.warnings) ?? [] as w (w)}<Warning class="mb-3">{w}</Warning>{/each}
{#if doing === "add"}
  <Panel title="New store"
    ><StoreForm stores={stores.data?.items ?? []} done={(s) => end(s, "added")} /></Panel>
{:else if doing}
  {#key doing.name}<Panel title="Change {doing.name}"
      ><StoreChange store={doing} stores={stores.data?.items ?? []} done={(s) => end(s, "changed")} /></Panel
    >{/key}
{/if}
<Panel>
  <Listing
    label="Stores"
    heads={["Store", "Kind", "Place", "#Segments", "#Size", "#Free", "Second copies", "Verified", ""]}
    items={stores.data?.items}>
    {#snippet row(s: Schemas["StoreView"])}
      <TableBodyRow>
        <TableBodyCell class="font-medium">{s.name}</TableBodyCell>
        <TableBodyCell>{kind(s)}</TableBodyCell>
        <TableBodyCell class="max-w-80 break-all whitespace-normal"
          >{s.path}{#if s.problem}<div class="text-red-700 dark:text-red-400">
              {s.problem}
            </div>{/if}</TableBodyCell>
        <TableBodyCell class="text-right"
          >{count(s.totals.segments)}{#if s.totals.damaged}<div class="text-red-700 dark:text-red-400">
              {count(s.totals.damaged)} damaged
            </div>{/if}</TableBodyCell>
        <TableBodyCell class="text-right">{size(s.totals.file_bytes)}</TableBodyCell>
        <TableBodyCell class="text-right">{size(s.free)}</TableBodyCell>
        <TableBodyCell
          >{s.second ? `in ${s.second}` : "none"}{#if s.totals.unseconded}<div>
              {count(s.totals.unseconded)} to copy
            </div>{/if}</TableBodyCell>
        <TableBodyCell class="whitespace-normal">{scrubbed(s)}</TableBodyCell>
        <TableBodyCell class="text-right">
          <span class="inline-flex gap-1">
            <Act right="operate" size="xs" color="alternative" disabled={!!busy} onclick={() => check(s)}
              >{busy === s.name ? "Trying …" : "Check"}</Act>
            <Act right="administer" size="xs" color="alternative" onclick={() => begin(s)}>Change</Act>
          </span>
        </TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No store">Rules can purge, but not archive.</Blank>{/snippet}
  </Listing>
</Panel>

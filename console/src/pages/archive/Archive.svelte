<script lang="ts">
  import { Badge, Button, Input, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { age, count, plural, short, size } from "../../lib/format";
  import { Loader, Pages } from "../../lib/loader.svelte";
  import { who } from "../../lib/who.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  import When from "../../lib/When.svelte";
  import Retrievals from "./Retrievals.svelte";
  import Verifications from "./Verifications.svelte";

  const pages = new Pages();
  let wanted = $state(""); // SOURCE or SOURCE.TABLE
  let sought = $state("");
  const segments = new Loader(() => {
    const [source, ...table] = sought.split(".");
    return take(
      api.GET("/segments", {
        params: { query: { limit: 30, after: pages.after, source, table: table.join(".") } }
      })
    );
  });
  const stores = new Loader(() => take(api.GET("/stores")));
  $effect(() => {
    void pages.after;
    void sought;
    segments.load();
  });
  if (who.may("see")) stores.load(); // they hold rows of all sources
  function secondCopy(s: Schemas["StoreView"]): string {
    if (!s.second) return "none";
    return `in ${s.second}` + (s.totals.unseconded > 0 ? `, ${count(s.totals.unseconded)} to copy` : "");
  }
</script>

<Page title="Archive" about="Segments: immutable files of archived rows, each with a manifest beside it.">
  {#snippet actions()}<Act right="rows" any size="sm" color="alternative" href="#/search">Search rows</Act>
    <Act right="operate" any size="sm" href="#/restores/request">Restore rows</Act>{/snippet}
  <Trouble problem={segments.problem ?? stores.problem} />
  {#each stores.data?.items ?? [] as s (s.name)}
    {#if s.problem}<Warning
        ><span class="font-semibold">Store {s.name} cannot be reached:</span> {s.problem}</Warning
      >{/if}
    {#each s.warnings as w (w)}<Warning>{w}</Warning>{/each}
  {/each}
  {#if who.may("see")}
    <Panel title="Stores">
      <Listing
        label="Stores"
        heads={[
          "Store",
          "Kind",
          "Where",
          "#Segments",
          "#Size",
          "#Free",
          "Second copies",
          "All verified since",
          "#Damaged"
        ]}
        items={stores.data?.items}>
        {#snippet row(s: Schemas["StoreView"])}
          <TableBodyRow
            ><TableBodyCell class="font-medium">{s.name}</TableBodyCell><TableBodyCell
              >{s.kind}{#if s.seal.key_file || s.seal.key_env}<div
                  class="text-xs text-gray-500 dark:text-gray-400"
                  title="its files are encrypted">
                  sealed
                </div>{/if}{#if s.bucket.class}<div
                  class="text-xs text-gray-500 dark:text-gray-400"
                  title="its files go cold: {s.bucket.class}">
                  cold
                </div>{/if}</TableBodyCell
            ><TableBodyCell class="max-w-56 truncate font-mono text-xs" title={s.path}
              >{s.path}</TableBodyCell>
            <TableBodyCell class="text-right"
              >{count(s.totals.segments)}{#if s.totals.seconds}<div
                  class="text-xs text-gray-500 dark:text-gray-400"
                  title="segments of other stores that have their second copy here">
                  + {count(s.totals.seconds)} copies
                </div>{/if}{#if s.totals.guests}<div
                  class="text-xs text-gray-500 dark:text-gray-400"
                  title="segments of other stores whose rows lie here">
                  rows of {plural(s.totals.guests, "other")}
                </div>{/if}</TableBodyCell
            ><TableBodyCell class="text-right"
              >{size(s.totals.file_bytes + s.totals.guest_bytes)}</TableBodyCell
            ><TableBodyCell class="text-right"
              >{#if s.problem}<span class="text-red-700 dark:text-red-400" title={s.problem}>not reached</span
                >{:else}{size(s.free)}{/if}</TableBodyCell>
            <TableBodyCell>{secondCopy(s)}</TableBodyCell>
            <TableBodyCell><When at={s.totals.verified} none="–" day /></TableBodyCell>
            <TableBodyCell
              class="text-right {s.totals.damaged > 0 ? 'font-semibold text-red-700 dark:text-red-400' : ''}"
              >{count(s.totals.damaged)}</TableBodyCell
            ></TableBodyRow>
        {/snippet}
        {#snippet empty()}<Blank title="No store yet" />{/snippet}
      </Listing>
    </Panel>
  {/if}
  <Verifications
    seconds={!!stores.data?.items.some((s) => s.second)}
    done={() => {
      if (who.may("see")) stores.load(); // they hold rows of all sources
      segments.load();
    }} />
  {#if stores.data?.items.some((s) => s.bucket.class)}<Retrievals />{/if}
  <Panel title="Segments">
    <form
      class="flex items-center gap-2 px-4 py-2"
      onsubmit={(e) => {
        e.preventDefault();
        pages.reset();
        sought = wanted.trim();
      }}>
      <Input
        size="sm"
        class="w-72 placeholder:text-gray-500 dark:placeholder:text-gray-400"
        aria-label="of a source or a table"
        placeholder="SOURCE or SOURCE.TABLE"
        bind:value={wanted} /><Button size="xs" color="alternative" type="submit">Show</Button>
    </form>
    <Listing
      label="Segments"
      heads={[
        "Segment",
        "Table",
        "State",
        "#Rows",
        "#File",
        "#Smaller",
        "Oldest",
        "Newest",
        "Stored",
        "Kept until"
      ]}
      items={segments.data?.items}>
      {#snippet row(s: Schemas["Segment"])}
        <TableBodyRow>
          <TableBodyCell
            ><a class="text-link font-mono text-xs" href="#/archive/{s.id}" title={s.id}>{short(s.id)}</a
            ></TableBodyCell>
          <TableBodyCell>{s.source}.{s.table}</TableBodyCell>
          <TableBodyCell
            ><State state={s.state} />{#if s.damage}{" "}<span title={s.damage}
                ><Badge color="red">damaged</Badge></span
              >{/if}{#if s.cold && s.state === "closed"}<div
                class="text-xs text-gray-500 dark:text-gray-400"
                title={s.warm_until
                  ? "a copy of its rows was retrieved"
                  : "its rows have to be retrieved before they can be read"}>
                cold
              </div>{/if}</TableBodyCell>
          <TableBodyCell class="text-right"
            >{count(s.state === "closed" || s.state === "disposed" ? s.deleted : s.rows)}</TableBodyCell>
          <TableBodyCell class="text-right">{size(s.file_bytes)}</TableBodyCell>
          <TableBodyCell class="text-right"
            >{s.file_bytes ? `${(s.raw_bytes / s.file_bytes).toFixed(1)}×` : "–"}</TableBodyCell>
          <TableBodyCell title={s.oldest}>{age(s.oldest).slice(0, 10)}</TableBodyCell><TableBodyCell
            title={s.newest}>{age(s.newest).slice(0, 10)}</TableBodyCell>
          <TableBodyCell><When at={s.created_at} day /></TableBodyCell><TableBodyCell
            ><When at={s.keep_until} none="no end" day /></TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}{#if sought}<Blank title="Nothing of {sought} is archived" />{:else}<Blank
            title="The archive is empty"
            >Segments come from runs of rules with <code>then: archive</code>.</Blank
          >{/if}{/snippet}
    </Listing>
  </Panel>
  <Pager {pages} next={segments.data?.next} />
</Page>

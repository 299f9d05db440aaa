<script lang="ts">
  // What was asked for from cold storage.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { money, short, size } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  const list = new Loader(() => take(api.GET("/retrievals", { params: { query: { limit: 10 } } })));
  $effect(() => whenChanged(() => list.load()));
</script>

<Panel title="Retrieved from cold storage">
  <Trouble problem={list.problem} />
  <Listing
    label="Retrievals"
    heads={["Segment", "Store", "State", "Priority", "#File", "#Price", "There", "For", "Asked"]}
    items={list.data?.items}>
    {#snippet row(r: Schemas["Retrieval"])}
      <TableBodyRow>
        <TableBodyCell
          ><a class="text-link font-mono text-xs" href="#/archive/{r.segment}" title={r.segment}
            >{short(r.segment)}</a
          ></TableBodyCell>
        <TableBodyCell>{r.store}</TableBodyCell>
        <TableBodyCell><span title={r.reason}><State state={r.state} /></span></TableBodyCell>
        <TableBodyCell>{r.priority}</TableBodyCell>
        <TableBodyCell class="text-right">{size(r.bytes)}</TableBodyCell>
        <TableBodyCell class="text-right">{money(r.price, r.currency)}</TableBodyCell>
        <TableBodyCell
          >{#if r.until}until <When at={r.until} day />{:else if r.expected_at}expected <When
              at={r.expected_at} />{:else}–{/if}</TableBodyCell>
        <TableBodyCell class="max-w-40 truncate" title={r.note}>{r.note || "–"}</TableBodyCell>
        <TableBodyCell
          ><When at={r.created_at} day />
          <div class="text-xs text-gray-500 dark:text-gray-400">by {r.created_by}</div></TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="Nothing was retrieved yet"
        >Searches name the segments in cold storage that may hold a row, and restores ask for what they need.</Blank
      >{/snippet}
  </Listing>
</Panel>

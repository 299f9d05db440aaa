<script lang="ts">
  // Where the entries of the log lie, and how long they are kept.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { count, lasting, size } from "../../lib/format";
  import { Loader } from "../../lib/loader.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  const kept = new Loader(() => take(api.GET("/audit/segments")));
  kept.load();
  type Segment = Schemas["AuditSegment"];
</script>

<Panel title="How long entries are kept">
  <Trouble problem={kept.problem} />
  {#if kept.data}
    {@const k = kept.data}
    <p class="px-4 py-3 text-sm">
      Entries {count(k.here)} to {count(k.last)} are in the catalog. They stay there for {lasting(k.live)},
      then move to
      {k.store ? `store ${k.store}` : "a store, of which there is none"}, and are kept
      {k.keep ? `for ${lasting(k.keep)} in all` : "for good"}.
      {#if k.first > 1}Those before {count(k.first)} were kept long enough and destroyed.{/if}
    </p>
    {#if k.segments.length}
      <Listing
        label="Segments of the audit log"
        heads={["Entries", "From", "To", "Store", "#Size", "Moved", "May be destroyed"]}
        items={k.segments}>
        {#snippet row(s: Segment)}
          <TableBodyRow>
            <TableBodyCell>{count(s.first)} – {count(s.last)}</TableBodyCell>
            <TableBodyCell><When at={s.from} /></TableBodyCell>
            <TableBodyCell><When at={s.to} /></TableBodyCell>
            <TableBodyCell title={s.file}>{s.store}</TableBodyCell>
            <TableBodyCell class="text-right">{size(s.bytes)}</TableBodyCell>
            <TableBodyCell><When at={s.moved_at} /></TableBodyCell>
            <TableBodyCell
              >{#if s.due_at}<When at={s.due_at} />{:else}–{/if}</TableBodyCell>
          </TableBodyRow>
        {/snippet}
        {#snippet empty()}None has moved yet{/snippet}
      </Listing>
    {/if}
  {/if}
</Panel>

<script lang="ts">
  // A run beside what its plan let one expect.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { count, size, span } from "../../lib/format";
  import { Loader } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  let { run }: { run: Schemas["RunView"] } = $props();
  const plan = new Loader(() => take(api.GET("/plans/{plan}", { params: { path: { plan: run.plan } } })));
  $effect(() => {
    void plan.load();
  });
  type Line = { what: string; expected: string; was: string; ratio: string };
  const ratio = (was: number, expected: number) => (expected > 0 ? `${(was / expected).toFixed(2)} ×` : "");
  let lines = $derived.by((): Line[] => {
    const e = plan.data?.detail.expect;
    if (!e) return [];
    const out: Line[] = [
      { what: "Rows", expected: count(run.due), was: count(run.done), ratio: ratio(run.done, run.due) }
    ];
    if (e.seconds != null)
      out.push({
        what: "Time at work",
        expected: span(e.seconds),
        was: span(run.working_micros / 1e6),
        ratio: ratio(run.working_micros / 1e6, e.seconds)
      });
    if (e.archive_bytes != null && run.store)
      out.push({
        what: "In the archive",
        expected: size(e.archive_bytes),
        was: size(run.file_bytes),
        ratio: ratio(run.file_bytes, e.archive_bytes)
      });
    if (e.log_bytes != null && run.log_bytes != null)
      out.push({
        what: "Log volume",
        expected: size(e.log_bytes),
        was: size(run.log_bytes),
        ratio: ratio(run.log_bytes, e.log_bytes)
      });
    return out;
  });
</script>

{#if lines.length}
  <Panel
    title="Plan and actual"
    note={lines.length === 1
      ? "no earlier run of the table has measured time and size"
      : "expected from earlier runs of the table"}>
    <Listing
      label="Expected and measured"
      heads={["", "#Expected", "#Was", "#Was to expected"]}
      items={lines}>
      {#snippet row(l: Line)}
        <TableBodyRow
          ><TableBodyCell>{l.what}</TableBodyCell
          >{#each [l.expected, l.was, l.ratio] as v, i (i)}<TableBodyCell class="text-right"
              >{v}</TableBodyCell
            >{/each}</TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Nothing was expected" />{/snippet}
    </Listing>
  </Panel>
{/if}

<script lang="ts">
  // What was done before and after a run worked, with what came back.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { whenChanged } from "../../lib/live";
  import { Loader } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import When from "../../lib/When.svelte";
  let { run }: { run: string } = $props();
  const steps = new Loader(() => take(api.GET("/runs/{run}/steps", { params: { path: { run } } })));
  $effect(() => whenChanged(() => steps.load()));
</script>

{#if steps.data?.items.length}
  <Panel title="Steps before and after">
    <Listing
      label="Steps"
      heads={["At", "When", "Step", "Outcome", "#Tries", "Output"]}
      items={steps.data.items}>
      {#snippet row(s: Schemas["StepRecord"])}
        <TableBodyRow>
          <TableBodyCell><When at={s.began_at} /></TableBodyCell>
          <TableBodyCell>{s.phase}</TableBodyCell>
          <TableBodyCell class="max-w-80 whitespace-normal"
            ><code class="text-xs">{s.what}</code></TableBodyCell>
          <TableBodyCell><State state={s.outcome} /></TableBodyCell>
          <TableBodyCell class="text-right">{s.tries}</TableBodyCell>
          <TableBodyCell class="max-w-96 whitespace-normal"
            ><pre class="font-mono text-xs whitespace-pre-wrap">{s.output}</pre></TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Nothing was done" />{/snippet}
    </Listing>
  </Panel>
{/if}

<script lang="ts">
  // How what a rule requires stands now, and what is done around its runs. Asked for once, and when somebody wants it.
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { Loader } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { body }: { body: Schemas["RuleBody"] } = $props();
  const found = new Loader(() =>
    take(api.GET("/rules/{rule}/conditions", { params: { path: { rule: body.name } } }))
  );
  $effect(() => {
    if (body.requires) found.load();
  });
  const names: Record<string, string> = {
    backup: "Backup",
    store_free: "Free in the store",
    log_free: "Free on the database's disk",
    replica_delay: "Replica delay"
  };
  let steps = $derived([
    ...(body.before ?? []).map((s) => ({ phase: "before", ...s })),
    ...(body.after ?? []).map((s) => ({ phase: "after", ...s }))
  ]);
</script>

{#if body.requires || steps.length}
  <Panel title="Requirements and steps">
    {#if body.requires}
      <Trouble problem={found.problem} />
      <Listing label="Requirements" heads={["Requires", "Needs", "State", "Found"]} items={found.data?.items}>
        {#snippet row(c: Schemas["Condition"])}
          <TableBodyRow>
            <TableBodyCell>{names[c.name] ?? c.name}</TableBodyCell>
            <TableBodyCell class="max-w-80 whitespace-normal">{c.needs}</TableBodyCell>
            <TableBodyCell><State state={c.met ? "holds" : "does not hold"} /></TableBodyCell>
            <TableBodyCell class="max-w-96 whitespace-normal">{c.found}</TableBodyCell>
          </TableBodyRow>
        {/snippet}
        {#snippet empty()}<Blank title="It requires nothing" />{/snippet}
      </Listing>
      <div class="px-4 pb-3">
        <Button size="xs" color="alternative" onclick={() => found.load()}>Look again</Button>
      </div>
    {/if}
    {#if steps.length}
      <Listing label="Steps" heads={["When", "Step", "Time"]} items={steps}>
        {#snippet row(s: (typeof steps)[number])}
          <TableBodyRow>
            <TableBodyCell>{s.phase} each run</TableBodyCell>
            <TableBodyCell class="whitespace-normal"
              ><code class="text-xs">{s.sql ?? `POST ${s.webhook}`}</code></TableBodyCell>
            <TableBodyCell>{s.timeout ?? "PT30S"}</TableBodyCell>
          </TableBodyRow>
        {/snippet}
        {#snippet empty()}<Blank title="Nothing is done around its runs" />{/snippet}
      </Listing>
    {/if}
  </Panel>
{/if}

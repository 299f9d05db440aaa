<script lang="ts">
  // Who decides for somebody else for a time.
  import { Button, Input, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import { who } from "../../lib/who.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  let form = $state({ to: "", until: "P14D", reason: "" });
  let problem = $state<Problem>();
  const list = new Loader(() => take(api.GET("/delegations")));
  list.load();
  let mine = $derived(who.session?.kind === "person" && who.maySomewhere("approve"));
  async function attempt(what: () => Promise<unknown>) {
    problem = undefined;
    try {
      await what();
      await list.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  const add = (e: SubmitEvent) => {
    e.preventDefault();
    attempt(async () => {
      await take(api.POST("/delegations", { body: form }));
      form = { to: "", until: "P14D", reason: "" };
    });
  };
  const end = (d: Schemas["Delegation"]) =>
    attempt(() => take(api.DELETE("/delegations/{delegation}", { params: { path: { delegation: d.id } } })));
</script>

<Trouble problem={problem ?? list.problem} />
{#if mine || list.data?.items.length}
  <Panel title="In somebody's place">
    {#if mine}
      <form class="flex flex-wrap items-center gap-2 px-4 py-2" onsubmit={add}>
        <div class="w-40">
          <Input size="sm" aria-label="who decides" placeholder="who decides" bind:value={form.to} />
        </div>
        <div class="w-40">
          <Input size="sm" aria-label="until" placeholder="P14D, 2027-03-31" bind:value={form.until} />
        </div>
        <div class="w-64">
          <Input size="sm" aria-label="why" placeholder="why" bind:value={form.reason} />
        </div>
        <Button size="xs" type="submit" disabled={!form.to || !form.reason}>Let them decide for me</Button>
      </form>
    {/if}
    <Listing label="Delegations" heads={["Who decides", "For", "Until", "Why", ""]} items={list.data?.items}>
      {#snippet row(d: Schemas["Delegation"])}
        <TableBodyRow>
          <TableBodyCell class="font-medium">{d.to}</TableBodyCell>
          <TableBodyCell>{d.from}</TableBodyCell>
          <TableBodyCell><When at={d.until} /></TableBodyCell>
          <TableBodyCell class="max-w-72 whitespace-normal">{d.reason}</TableBodyCell>
          <TableBodyCell class="text-right"
            >{#if d.from === who.session?.actor || who.may("administer")}<Button
                size="xs"
                color="alternative"
                aria-label="End that {d.to} decides for {d.from}"
                onclick={() => end(d)}>End</Button
              >{/if}</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Nobody decides for somebody else" />{/snippet}
    </Listing>
  </Panel>
{/if}

<script lang="ts">
  import { Button, Input, TableBodyCell, TableBodyRow, Toggle } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import PlaceHold from "./PlaceHold.svelte";

  let lifted = $state(false);
  let placing = $state(false);
  let lifting = $state("");
  let reason = $state("");
  let problem = $state<Problem>();
  const holds = new Loader(() => take(api.GET("/holds", { params: { query: { all: String(lifted) } } })));
  $effect(() => {
    void lifted;
    holds.load();
  });

  async function lift() {
    problem = undefined;
    try {
      await take(api.POST("/holds/{hold}/lift", { params: { path: { hold: lifting } }, body: { reason } }));
      lifting = reason = "";
      await holds.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<Page title="Holds" about="What a hold protects is removed by nothing until the hold is lifted.">
  {#snippet actions()}<Act
      right="administer"
      any
      size="sm"
      color={placing ? "alternative" : "primary"}
      onclick={() => (placing = !placing)}>{placing ? "Not now" : "Place a hold"}</Act
    >{/snippet}
  <Trouble problem={holds.problem ?? problem} />
  {#if placing}<PlaceHold
      done={() => {
        placing = false;
        holds.load();
      }} />{/if}
  <Panel>
    <div class="flex justify-end px-4 py-2">
      <Toggle size="small" bind:checked={lifted}>those that were lifted too</Toggle>
    </div>
    <Listing
      label="Holds"
      heads={["Reference", "Table", "Holds", "Reason", "Placed", "Lifted"]}
      items={holds.data?.items}>
      {#snippet row(h: Schemas["Hold"])}
        <TableBodyRow>
          <TableBodyCell class="font-medium">{h.reference}</TableBodyCell>
          <TableBodyCell
            ><a class="text-link" href="#/tables/{h.source}/{encodeURIComponent(h.table)}"
              >{h.source}.{h.table}</a
            ></TableBodyCell>
          <TableBodyCell class="max-w-80 whitespace-normal font-mono text-xs"
            >{h.filter || `segments ${h.segments.join(", ")}`}</TableBodyCell>
          <TableBodyCell class="max-w-64 whitespace-normal">{h.reason}</TableBodyCell>
          <TableBodyCell><When at={h.placed_at} /></TableBodyCell>
          <TableBodyCell class="max-w-64 whitespace-normal">
            {#if h.lifted_at}<When at={h.lifted_at} />: {h.lift_reason}
            {:else if lifting === h.id}<form
                class="flex gap-1"
                onsubmit={(e) => {
                  e.preventDefault();
                  lift();
                }}>
                <Input
                  size="sm"
                  aria-label="Why the hold ends"
                  placeholder="why it ends"
                  bind:value={reason} /><Button size="xs" type="submit" disabled={!reason}>Lift</Button>
              </form>
            {:else}<Act
                right="administer"
                source={h.source}
                size="xs"
                color="alternative"
                onclick={() => (lifting = h.id)}>Lift …</Act
              >{/if}
          </TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="No hold stands"
          >A hold keeps rows and segments from every delete, whatever the rules say.</Blank
        >{/snippet}
    </Listing>
  </Panel>
</Page>

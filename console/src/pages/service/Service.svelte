<script lang="ts">
  // How the service stands, and how it was told to run.
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { Loader } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  const doctor = new Loader(() => take(api.GET("/doctor")));
  const settings = new Loader(() => take(api.GET("/configuration")));
  $effect(() => {
    doctor.load();
    settings.load();
  });
  const from = (text: string) => (text === "usual" ? "as usual" : text);
</script>

<Page title="Service" about="What the service depends on and how that stands, and how it was told to run.">
  {#snippet actions()}<Button
      size="sm"
      color="alternative"
      disabled={doctor.busy}
      onclick={() => doctor.load()}>Look again</Button
    >{/snippet}
  <Trouble problem={doctor.problem ?? settings.problem} />
  <Panel title="How it stands">
    <Listing label="Checks" heads={["What", "Level", "How it stands", "#Took"]} items={doctor.data?.items}>
      {#snippet row(c: Schemas["Check"])}
        <TableBodyRow>
          <TableBodyCell class="font-medium">{c.name}</TableBodyCell>
          <TableBodyCell><State state={c.level} /></TableBodyCell>
          <TableBodyCell class="whitespace-normal"
            >{c.message}{#if c.remedy}<div class="text-gray-500 dark:text-gray-400">
                {c.remedy}
              </div>{/if}</TableBodyCell>
          <TableBodyCell class="text-right">{c.took_ms.toFixed(1)} ms</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Nothing to look at">The service depends on nothing yet.</Blank
        >{/snippet}
    </Listing>
  </Panel>
  <Panel title="Configuration">
    <Listing
      label="Configuration"
      heads={["Setting", "Value", "From", "Changes"]}
      items={settings.data?.items}>
      {#snippet row(v: Schemas["InForce"])}
        <TableBodyRow>
          <TableBodyCell class="font-medium" title={v.about}>{v.name}</TableBodyCell>
          <TableBodyCell class="max-w-96 break-all whitespace-normal">{v.value || "–"}</TableBodyCell>
          <TableBodyCell class={v.from === "usual" ? "text-gray-500 dark:text-gray-400" : ""}
            >{from(v.from)}</TableBodyCell>
          <TableBodyCell>{v.changes ? "while it runs (SIGHUP)" : "at a new start"}</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Not known">The service was started by another program.</Blank>{/snippet}
    </Listing>
  </Panel>
</Page>

<script lang="ts">
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Facts from "../../lib/Facts.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import Deliveries from "./Deliveries.svelte";
  import EditRecipient from "./EditRecipient.svelte";

  let editing = $state<Schemas["Recipient"] | "new">();
  let removing = $state("");
  let problem = $state<Problem>();
  const how = new Loader(() => take(api.GET("/notifications")));
  const recipients = new Loader(() => take(api.GET("/recipients")));
  $effect(() =>
    whenChanged(() => {
      how.load();
      recipients.load();
    })
  );

  async function act(fn: () => Promise<unknown>) {
    problem = undefined;
    try {
      await fn();
      removing = "";
      await recipients.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  const path = (recipient: string) => ({ params: { path: { recipient } } });
  function told(r: Schemas["Recipient"], kinds: string[]) {
    const parts = r.events.length === kinds.length ? ["everything"] : [...r.events];
    if (r.severity) parts.push(`findings from ${r.severity} up`);
    return parts.join(", ") || "–";
  }
  function limits(r: Schemas["Recipient"]) {
    return [...(r.rules ?? []), ...(r.sources ?? [])].join(", ") || "everything";
  }
</script>

<Page title="Notifications" about="Who is told what happens, by mail or by webhook, and what was sent.">
  {#snippet actions()}<Act
      right="administer"
      size="sm"
      color={editing ? "alternative" : "primary"}
      onclick={() => (editing = editing ? undefined : "new")}>{editing ? "Not now" : "New recipient"}</Act
    >{/snippet}
  <Trouble problem={how.problem ?? recipients.problem ?? problem} />
  {#if editing && how.data}
    {#key editing}<EditRecipient
        kinds={how.data.kinds}
        recipient={editing === "new" ? undefined : editing}
        done={() => {
          editing = undefined;
          recipients.load();
        }} />{/key}
  {/if}
  <Panel title="Recipients">
    <Listing
      label="Recipients"
      heads={["Recipient", "Address", "Told at once", "Of", "Digest", "Quiet", ""]}
      items={recipients.data?.items}>
      {#snippet row(r: Schemas["Recipient"])}
        <TableBodyRow>
          <TableBodyCell class="font-medium">{r.name}</TableBodyCell>
          <TableBodyCell class="max-w-64 overflow-hidden text-ellipsis" title={r.address}
            >{r.address}</TableBodyCell>
          <TableBodyCell class="max-w-72 whitespace-normal">{told(r, how.data?.kinds ?? [])}</TableBodyCell>
          <TableBodyCell class="max-w-48 whitespace-normal">{limits(r)}</TableBodyCell>
          <TableBodyCell>{r.digest ? `${r.digest} ${r.zone || "UTC"}` : "–"}</TableBodyCell>
          <TableBodyCell class="whitespace-normal">{r.quiet?.join(", ") || "–"}</TableBodyCell>
          <TableBodyCell class="text-right">
            <span class="inline-flex gap-1">
              {#if removing === r.name}
                <Button
                  size="xs"
                  color="red"
                  onclick={() => act(() => take(api.DELETE("/recipients/{recipient}", path(r.name))))}
                  >Remove {r.name}</Button>
                <Button size="xs" color="alternative" onclick={() => (removing = "")}>Keep</Button>
              {:else}
                <Act
                  right="administer"
                  size="xs"
                  color="alternative"
                  onclick={() => act(() => take(api.POST("/recipients/{recipient}/test", path(r.name))))}
                  >Send a test</Act>
                <Act right="administer" size="xs" color="alternative" onclick={() => (editing = r)}
                  >Change</Act>
                <Act right="administer" size="xs" color="alternative" onclick={() => (removing = r.name)}
                  >Remove …</Act>
              {/if}
            </span>
          </TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Nobody is told anything"
          >Name somebody who hears of failed runs and findings before they are looked for.</Blank
        >{/snippet}
    </Listing>
  </Panel>
  <Deliveries recipients={recipients.data?.items.map((r) => r.name) ?? []} />
  {#if how.data}
    {#snippet mail()}{#if how.data?.mail}{how.data.mail.server}, from {how.data.mail.from}; TLS: {how.data
          .mail.security}{:else}no mail server is named: start the service with <code>-smtp</code
        >{/if}{/snippet}
    {#snippet hosts()}{#if how.data?.hosts.length}{how.data.hosts.join(", ")}{:else}none is named: start the
        service with <code>-tell-hosts</code>{/if}{/snippet}
    {#snippet links()}{#if how.data?.console}{how.data.console}{:else}notices have none: start the service
        with
        <code>-console-url</code>{/if}{/snippet}
    {#snippet waiting()}{how.data?.waiting}{#if how.data?.since}, tried since <When
          at={how.data.since} />{/if}{/snippet}
    <Panel title="How they are told">
      <Facts
        facts={[
          ["Mail server", mail],
          ["Hosts of webhooks", hosts],
          ["Links", links],
          ["Deliveries that wait", waiting],
          ["Deliveries given up", String(how.data.failed)]
        ]} />
    </Panel>
  {/if}
</Page>

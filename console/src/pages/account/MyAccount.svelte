<script lang="ts">
  // Who is signed in: what they may do, their password, second factor and sessions.
  import { Button, TableBodyCell, TableBodyRow, Toggle } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import { who } from "../../lib/who.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Facts from "../../lib/Facts.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import CommandLine from "./CommandLine.svelte";
  import NewPassword from "./NewPassword.svelte";
  import SecondFactor from "./SecondFactor.svelte";

  let all = $state(false);
  let said = $state("");
  let problem = $state<Problem>();
  const sessions = new Loader(() => take(api.GET("/sessions", { params: { query: { all: String(all) } } })));
  $effect(() => {
    void all;
    sessions.load();
  });
  let me = $derived(who.session);
  let inSources = $derived(
    Object.entries(me?.grants ?? {})
      .map(([source, g]) => `${source}: ${g.role}${g.rows ? ", rows" : ""}`)
      .join("; ")
  );

  async function again(text: string) {
    said = text;
    who.session = await take(api.GET("/session"));
    sessions.load();
  }
  async function end(s: Schemas["OpenSession"]) {
    problem = undefined;
    try {
      await take(api.DELETE("/sessions/{session}", { params: { path: { session: s.id } } }));
      sessions.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<Page title="My account" about="What you may do here, and how you sign in.">
  <Trouble problem={problem ?? sessions.problem} />
  <div role="status" class="mb-2 text-sm text-green-700 empty:hidden dark:text-green-400">{said}</div>
  {#if me}
    <Panel>
      <Facts
        facts={[
          ["Account", me.actor],
          ["Role", me.role],
          ["You may", me.rights.length === 5 ? "everything" : me.rights.join(", ")],
          ["In single sources", inSources],
          ["Last sign-in before", who.last],
          ["Second factor", me.kind === "person" ? (me.second_factor ? "yes" : "no") : ""]
        ]} />
    </Panel>
    {#if me.kind === "person"}
      <div class="grid gap-4 lg:grid-cols-2">
        <Panel title="Password"
          ><div class="p-4">
            <NewPassword done={() => again("The password is changed; your other sessions have ended.")} />
          </div></Panel>
        <Panel title="Second factor"
          ><div class="p-4">
            <SecondFactor
              has={me.second_factor}
              done={() =>
                again(
                  me.second_factor
                    ? "There is no second factor any more."
                    : "From now on a code is asked for; your other sessions have ended."
                )} />
          </div></Panel>
        <Panel title="Command line"><CommandLine /></Panel>
      </div>
    {/if}
  {/if}
  <Panel title="Sessions">
    {#if who.may("administer")}<div class="flex justify-end px-4 py-2">
        <Toggle size="small" bind:checked={all}>those of everybody</Toggle>
      </div>{/if}
    <Listing
      label="Sessions"
      heads={["Account", "Begun", "Last used", "Ends", "From", "By", ""]}
      items={sessions.data?.items}>
      {#snippet row(s: Schemas["OpenSession"])}
        <TableBodyRow>
          <TableBodyCell>{s.account || "administrator"}</TableBodyCell>
          <TableBodyCell><When at={s.begun_at} /></TableBodyCell>
          <TableBodyCell><When at={s.used_at} /></TableBodyCell>
          <TableBodyCell><When at={s.expires_at} /></TableBodyCell>
          <TableBodyCell>{s.address}</TableBodyCell>
          <TableBodyCell class="max-w-36 truncate" title={s.agent}>{s.agent}</TableBodyCell>
          <TableBodyCell class="text-right"
            >{#if s.own}this one{:else}<Button
                size="xs"
                color="alternative"
                aria-label="End the session of {s.account || 'administrator'} from {s.address}"
                onclick={() => end(s)}>End</Button
              >{/if}</TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="No session">You came in with a token.</Blank>{/snippet}
    </Listing>
  </Panel>
</Page>

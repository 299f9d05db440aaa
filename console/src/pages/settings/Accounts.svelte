<script lang="ts">
  // Who may come in with a token of their own: what each may do, when it was last used, and its end.
  import { Badge, Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Reason from "../../lib/Reason.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  import When from "../../lib/When.svelte";
  import AccountForm from "./AccountForm.svelte";

  let adding = $state(false);
  let ending = $state("");
  let reason = $state("");
  let made = $state<Schemas["MadeAccount"]>();
  let problem = $state<Problem>();
  const accounts = new Loader(() => take(api.GET("/accounts")));
  accounts.load();

  function added(account: Schemas["MadeAccount"]) {
    adding = false;
    made = account;
    accounts.load();
  }
  async function revoke() {
    problem = undefined;
    try {
      await take(
        api.POST("/accounts/{account}/revoke", { params: { path: { account: ending } }, body: { reason } })
      );
      ending = reason = "";
      made = undefined;
      accounts.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  const sees = (a: Schemas["Account"]) => a.rows || a.role === "administrator";
</script>

<div class="mb-3">
  <Button
    size="sm"
    color={adding ? "alternative" : "primary"}
    onclick={() => {
      adding = !adding;
      made = undefined;
    }}>{adding ? "Not now" : "Add an account"}</Button>
</div>
<Trouble problem={accounts.problem ?? problem} />
{#if adding}<Panel title="New account"><AccountForm done={added} /></Panel>{/if}
{#if made}<Warning class="mb-3"
    >The token of {made.name}, which is shown this once:
    <code class="ms-1 font-mono break-all select-all" data-testid="token">{made.token}</code></Warning
  >{/if}
{#if ending}<Panel title="End the account {ending}" note="at once, with its sessions, and for good">
    <div class="px-4 pt-3"><Reason bind:reason text="End it" save={revoke} /></div>
  </Panel>{/if}
<Panel>
  <Listing
    label="Accounts"
    heads={["Account", "Role", "Values of rows", "About", "Last used", "From", "Ends", ""]}
    items={accounts.data?.items}>
    {#snippet row(a: Schemas["Account"])}
      <TableBodyRow>
        <TableBodyCell class="font-medium">{a.name}</TableBodyCell>
        <TableBodyCell>{a.role}</TableBodyCell>
        <TableBodyCell>{sees(a) ? "sees them" : "no"}</TableBodyCell>
        <TableBodyCell class="max-w-60 whitespace-normal">{a.about}</TableBodyCell>
        <TableBodyCell><When at={a.used_at} none="never" /></TableBodyCell>
        <TableBodyCell>{a.used_from}</TableBodyCell>
        <TableBodyCell
          >{#if a.revoked_at}<Badge color="red">revoked</Badge>
            <When at={a.revoked_at} />
            <div class="text-gray-600 dark:text-gray-400">
              {a.revoked_by}: {a.reason}
            </div>{:else}<When at={a.expires_at} none="never" />{/if}</TableBodyCell>
        <TableBodyCell class="text-right"
          >{#if !a.revoked_at}<Button
              size="xs"
              color="alternative"
              aria-label="End the account {a.name}"
              onclick={() => (ending = a.name)}>End …</Button
            >{/if}</TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No account yet"
        >Whoever comes in does so with the administrator's token, and stands in the record under that name.</Blank
      >{/snippet}
  </Listing>
</Panel>

<script lang="ts">
  // Who may come in: persons and services, what each may do, when it was last used, and its end.
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

  let doing = $state<"" | "add" | "change" | "end">("");
  let of = $state<Schemas["Account"]>();
  let reason = $state("");
  let made = $state<Schemas["MadeAccount"]>();
  let problem = $state<Problem>();
  const accounts = new Loader(() => take(api.GET("/accounts")));
  const sources = new Loader(() => take(api.GET("/sources")));
  accounts.load();
  sources.load();
  let names = $derived((sources.data?.items ?? []).map((s) => s.name));

  function ask(what: typeof doing, account?: Schemas["Account"]) {
    doing = doing === what && of?.name === account?.name ? "" : what;
    of = account;
    made = problem = undefined;
    reason = "";
  }
  function did(account?: Schemas["MadeAccount"]) {
    doing = "";
    made = account;
    accounts.load();
  }
  async function attempt(what: () => Promise<Schemas["MadeAccount"] | undefined>) {
    problem = undefined;
    try {
      did(await what());
    } catch (e) {
      problem = problemOf(e);
    }
  }
  const revoke = () =>
    attempt(async () => {
      await take(
        api.POST("/accounts/{account}/revoke", { params: { path: { account: of!.name } }, body: { reason } })
      );
      return undefined;
    });
  const password = (a: Schemas["Account"]) =>
    attempt(() => take(api.POST("/accounts/{account}/password", { params: { path: { account: a.name } } })));
  const sees = (a: Schemas["Account"]) => a.rows || a.role === "administrator";
</script>

<div class="mb-3">
  <Button size="sm" color={doing === "add" ? "alternative" : "primary"} onclick={() => ask("add")}
    >{doing === "add" ? "Not now" : "Add an account"}</Button>
</div>
<Trouble problem={accounts.problem ?? problem} />
{#if doing === "add"}<Panel title="New account"><AccountForm sources={names} done={did} /></Panel>{/if}
{#if doing === "change" && of}{#key of.name}<Panel
      title="Change {of.name}"
      note="its sessions end where what it may do changes"
      ><AccountForm is={of} sources={names} done={did} /></Panel
    >{/key}{/if}
{#if made}<Warning class="mb-3"
    >{made.password ? "The first password" : "The token"} of {made.name}, which is shown this once:
    <code class="ms-1 font-mono break-all select-all" data-testid="token">{made.password || made.token}</code
    >{#if made.password}{" "}It is for signing in once, within three days.{/if}</Warning
  >{/if}
{#if doing === "end" && of}<Panel
    title="End the account {of.name}"
    note="at once, with its sessions, and for good">
    <div class="px-4 pt-3"><Reason bind:reason text="End it" save={revoke} /></div>
  </Panel>{/if}
<Panel>
  <Listing
    label="Accounts"
    heads={["Account", "Of", "Role", "Values of rows", "About", "Last used", "Ends", ""]}
    items={accounts.data?.items}>
    {#snippet row(a: Schemas["Account"])}
      <TableBodyRow>
        <TableBodyCell class="font-medium">{a.name}</TableBodyCell>
        <TableBodyCell
          >a {a.kind}{#if a.second_factor}<div class="text-xs">with a second factor</div>{/if}</TableBodyCell>
        <TableBodyCell
          >{a.role}{#each Object.entries(a.grants ?? {}) as [source, g] (source)}<div class="text-xs">
              {source}: {g.role}{g.rows ? ", rows" : ""}
            </div>{/each}</TableBodyCell>
        <TableBodyCell>{sees(a) ? "sees them" : "no"}</TableBodyCell>
        <TableBodyCell class="max-w-60 whitespace-normal"
          >{a.about}{#if a.owner}<div class="text-xs">also of {a.owner}</div>{/if}</TableBodyCell>
        <TableBodyCell
          ><When at={a.kind === "person" ? a.signed_in_at : a.used_at} none="never" />
          <div class="text-xs">{a.kind === "person" ? a.signed_in_from : a.used_from}</div></TableBodyCell>
        <TableBodyCell
          >{#if a.revoked_at}<Badge color="red">revoked</Badge>
            <When at={a.revoked_at} />
            <div class="text-gray-600 dark:text-gray-400">
              {a.revoked_by}: {a.reason}
            </div>{:else}<When at={a.expires_at} none="never" />{/if}</TableBodyCell>
        <TableBodyCell class="space-x-1 text-right"
          >{#if !a.revoked_at}<Button
              size="xs"
              color="alternative"
              aria-label="Change the account {a.name}"
              onclick={() => ask("change", a)}>Change …</Button
            >{#if a.kind === "person" && !a.identity}<Button
                size="xs"
                color="alternative"
                aria-label="Give {a.name} a new password"
                onclick={() => password(a)}>New password</Button
              >{/if}<Button
              size="xs"
              color="alternative"
              aria-label="End the account {a.name}"
              onclick={() => ask("end", a)}>End …</Button
            >{/if}</TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No account yet"
        >Whoever comes in does so with the administrator's token, and stands in the record under that name.</Blank
      >{/snippet}
  </Listing>
</Panel>

<script lang="ts">
  // Makes an account, or changes what one is and may do.
  import { Button, Checkbox, Input, Label, Select } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Grants from "./Grants.svelte";
  let {
    is,
    sources,
    done
  }: {
    is?: Schemas["Account"]; // undefined: it is a new one
    sources: string[];
    done: (made?: Schemas["MadeAccount"]) => void;
  } = $props();
  // svelte-ignore state_referenced_locally
  let account = $state({
    name: is?.name ?? "",
    kind: is?.kind ?? "person",
    about: is?.about ?? "",
    email: is?.email ?? "",
    owner: is?.owner ?? "",
    role: is?.role ?? "viewer",
    rows: is?.rows ?? false,
    expires: ""
  });
  // svelte-ignore state_referenced_locally
  let grants = $state(
    Object.entries(is?.grants ?? {}).map(([source, g]) => ({ source, role: g.role, rows: !!g.rows }))
  );
  let problem = $state<Problem>();

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    const named = Object.fromEntries(grants.map((g) => [g.source, { role: g.role, rows: g.rows }]));
    try {
      if (is) {
        const { name, about, email, owner, role, rows, expires } = account;
        await take(
          api.PATCH("/accounts/{account}", {
            params: { path: { account: name } },
            body: { about, email, owner, role, rows, grants: named, ...(expires ? { expires } : {}) }
          })
        );
        done();
      } else done(await take(api.POST("/accounts", { body: { ...account, grants: named } })));
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<form onsubmit={submit} class="grid gap-3 p-4 sm:grid-cols-2">
  <div class="sm:col-span-2"><Trouble {problem} /></div>
  {#if !is}
    <Label
      >Of<Select
        size="sm"
        id="account-kind"
        placeholder=""
        items={[
          { value: "person", name: "a person, who signs in with a password" },
          { value: "service", name: "a service, which has a token" }
        ]}
        bind:value={account.kind} /></Label>
    <Label
      >Name<Input
        size="sm"
        id="account-name"
        required
        placeholder={account.kind === "person" ? "nora-quay" : "harbour-desk"}
        bind:value={account.name} /></Label>
  {/if}
  <Label
    >Role in all sources<Select
      size="sm"
      id="account-role"
      placeholder=""
      items={[
        { value: "none", name: "none: only what is given in single sources" },
        { value: "viewer", name: "viewer: sees counts, rules and records" },
        { value: "operator", name: "operator: plans, runs, restores too" },
        { value: "approver", name: "approver: decides on what others ask for" },
        { value: "administrator", name: "administrator: everything" }
      ]}
      bind:value={account.role} /></Label>
  <Label
    >About<Input
      size="sm"
      id="account-about"
      placeholder="whose it is, and what for"
      bind:value={account.about} />
  </Label>
  {#if account.kind === "person"}<Label
      >E-mail<Input size="sm" type="email" id="account-email" bind:value={account.email} /></Label
    >{/if}
  <Label
    >Also of the person<Input
      size="sm"
      id="account-owner"
      placeholder="nobody decides on their own requests as another"
      bind:value={account.owner} /></Label>
  <Label
    >Ends<Input
      size="sm"
      id="account-expires"
      placeholder={is ? "as before; never; or like P90D, 2027-03-31" : "never; or like P90D, 2027-03-31"}
      bind:value={account.expires} /></Label>
  <Checkbox class="self-end" bind:checked={account.rows}
    >Sees values of rows: samples, searches and files</Checkbox>
  <Grants bind:grants {sources} />
  <div class="sm:col-span-2">
    <Button type="submit" size="sm">{is ? "Change it" : "Make the account"}</Button>
  </div>
</form>

<script lang="ts">
  import { Button, Checkbox, Input, Label, Select } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { done }: { done: (account: Schemas["MadeAccount"]) => void } = $props();
  let account = $state({ name: "", about: "", role: "viewer", rows: false, expires: "" });
  let problem = $state<Problem>();

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    try {
      done(await take(api.POST("/accounts", { body: account })));
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<form onsubmit={submit} class="grid gap-3 p-4 sm:grid-cols-2">
  <div class="sm:col-span-2"><Trouble {problem} /></div>
  <Label
    >Name<Input
      size="sm"
      id="account-name"
      required
      placeholder="harbour-desk"
      bind:value={account.name} /></Label>
  <Label
    >Role<Select
      size="sm"
      id="account-role"
      placeholder=""
      items={[
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
  <Label
    >Ends<Input
      size="sm"
      id="account-expires"
      placeholder="never; or like P90D, 2027-03-31"
      bind:value={account.expires} /></Label>
  <Checkbox bind:checked={account.rows}>It sees values of rows: samples, searches and files</Checkbox>
  <div class="sm:col-span-2"><Button type="submit" size="sm">Make the account</Button></div>
</form>

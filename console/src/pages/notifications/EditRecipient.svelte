<script lang="ts">
  // Who is told what: a new recipient, or one that is changed.
  import { untrack } from "svelte";
  import { Button, Checkbox, Input, Label, Select } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { several } from "../../lib/format";
  import { problemOf } from "../../lib/loader.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  type Kind = Schemas["NewRecipient"]["events"] extends (infer K)[] | undefined ? K : never;
  let { kinds, recipient, done }: { kinds: Kind[]; recipient?: Schemas["Recipient"]; done: () => void } =
    $props();

  const usual: Kind[] = [
    "run-failed",
    "firing-failed",
    "over-limit",
    "restore-ready",
    "finding-opened",
    "waits-long"
  ];
  const was = untrack(() => recipient); // the form begins with what was said before
  let form = $state({
    name: was?.name ?? "",
    address: was?.address ?? "",
    events: was?.events ?? usual,
    rules: was?.rules?.join(", ") ?? "",
    sources: was?.sources?.join(", ") ?? "",
    severity: was?.severity ?? "",
    digest: was?.digest ?? "",
    quiet: was?.quiet?.join("; ") ?? "",
    zone: was?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
    secret_env: was?.secret_env ?? ""
  });
  let problem = $state<Problem>();

  async function save(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    try {
      await take(
        api.PUT("/recipients/{recipient}", {
          params: { path: { recipient: form.name } },
          body: {
            address: form.address,
            events: form.events,
            rules: several(form.rules, ","),
            sources: several(form.sources, ","),
            severity: form.severity || undefined,
            digest: form.digest || undefined,
            quiet: several(form.quiet, ";"),
            zone: form.zone || undefined,
            secret_env: form.secret_env || undefined,
            secret_file: was?.secret_file
          }
        })
      );
      done();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  function turn(kind: Kind, on: boolean) {
    form.events = on ? [...form.events, kind] : form.events.filter((k) => k !== kind);
  }
  const severities = [
    { value: "", name: "all findings" },
    { value: "warning", name: "warning and urgent" },
    { value: "urgent", name: "urgent only" }
  ];
  const hook = $derived(form.address.includes("://"));
</script>

<Panel title={was ? `Change ${was.name}` : "New recipient"}>
  <form class="grid gap-x-4 gap-y-3 px-4 py-3 md:grid-cols-3" onsubmit={save}>
    <div class="md:col-span-3"><Trouble {problem} /></div>
    <div>
      <Label for="name">Name</Label><Input
        id="name"
        size="sm"
        required
        disabled={!!was}
        bind:value={form.name} />
    </div>
    <div class="md:col-span-2">
      <Label for="address">Mail address, or URL of a webhook</Label><Input
        id="address"
        size="sm"
        required
        placeholder="keeper@harbour.example"
        bind:value={form.address} />
    </div>
    <fieldset class="md:col-span-3">
      <legend class="mb-1 text-sm font-medium">Told at once of</legend>
      <div class="grid gap-1 sm:grid-cols-3 lg:grid-cols-5">
        {#each kinds as k (k)}<Checkbox
            checked={form.events.includes(k)}
            onchange={(e) => turn(k, e.currentTarget.checked)}>{k.replaceAll("-", " ")}</Checkbox
          >{/each}
      </div>
    </fieldset>
    <div>
      <Label for="rules">Of these rules only</Label><Input
        id="rules"
        size="sm"
        placeholder="all; or boarding-*, fares"
        bind:value={form.rules} />
    </div>
    <div>
      <Label for="sources">Of these sources only</Label><Input
        id="sources"
        size="sm"
        placeholder="all"
        bind:value={form.sources} />
    </div>
    <div>
      <Label for="severity">Findings</Label><Select
        id="severity"
        size="sm"
        placeholder=""
        items={severities}
        bind:value={form.severity} />
    </div>
    <div>
      <Label for="digest">A digest of the day at</Label><Input
        id="digest"
        size="sm"
        placeholder="never; or 07:30"
        bind:value={form.digest} />
    </div>
    <div>
      <Label for="quiet">Quiet hours, but for what is urgent</Label><Input
        id="quiet"
        size="sm"
        placeholder="none; or 22:00-06:00"
        bind:value={form.quiet} />
    </div>
    <div><Label for="zone">By the clock of</Label><Input id="zone" size="sm" bind:value={form.zone} /></div>
    {#if hook}
      <div class="md:col-span-2">
        <Label for="secret">Environment variable of the service with the key that signs</Label><Input
          id="secret"
          size="sm"
          placeholder="not signed; or AMBERCELLAR_SECRET_DESK"
          bind:value={form.secret_env} />
      </div>
    {/if}
    <div class="md:col-span-3"><Button type="submit" size="sm">Save</Button></div>
  </form>
</Panel>
